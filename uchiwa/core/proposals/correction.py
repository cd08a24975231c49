"""From evidence to corrected values: the steps of a policy, cell by cell."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.bins import Bins
from uchiwa.core.log import BoolArray, FloatArray
from uchiwa.core.proposals.fill import smoothed, spread_outwards
from uchiwa.core.proposals.policy import Cell, Policy
from uchiwa.core.table import Table

DEAD_BAND = "dead band"
STRENGTH = "strength"
BIAS = "rich bias"
SMOOTHING = "smoothing"
UNREACHED = "unreached cells"
LIMIT = "limit per round"
CHOICE = "pins and chosen cells"


class State(StrEnum):
    """What happened to a cell."""

    CHANGED = "changed"
    KEPT = "kept"
    PINNED = "pinned"
    THIN = "thin"
    LIMITED = "limited"
    FILLED = "filled"


@dataclass(frozen=True, eq=False)
class Correction:
    """A multiplicative correction of a table; arrays of shape (rows, columns).

    Attributes:
        after: proposed values, at the table's precision and within its limits.
        factor: what each value is multiplied with before rounding; 1 where nothing changes.
        state: a `State` per cell.
        stages: the factor after each step of the policy, in order, by the step's name.
    """

    after: FloatArray
    factor: FloatArray
    state: NDArray[np.object_]
    stages: Mapping[str, FloatArray]


def cells_mask(cells: tuple[Cell, ...] | None, shape: tuple[int, int], default: bool) -> BoolArray:
    """A mask of the cells [i, j] (column, row); cells beyond the table are ignored; None gives `default`."""
    if cells is None:
        return np.full(shape, default)
    mask = np.zeros(shape, dtype=np.bool_)
    for i, j in cells:
        if j < shape[0] and i < shape[1]:
            mask[j, i] = True
    return mask


def enough_evidence(bins: Bins, policy: Policy) -> BoolArray:
    """Where a cell has the samples and the dwell that the policy asks for."""
    enough: BoolArray = (bins.samples >= policy.minimum_samples) & (bins.dwell >= policy.minimum_dwell_s)
    return enough & np.isfinite(bins.mean)


def correct(table: Table, bins: Bins, policy: Policy) -> Correction:
    """Multiply a table by its measured error as a policy allows.

    In this order: evidence, dead band, strength, rich bias, smoothing, unreached cells, limit per round, pins and
    choice of cells, rounding and the table's own limits.
    """
    shape = table.shape
    pinned = cells_mask(policy.pinned, shape, default=False)
    open_to_change = cells_mask(policy.only, shape, default=True) & ~pinned
    reached = enough_evidence(bins, policy)
    error = np.where(reached, bins.mean, 1.0)
    stages: dict[str, FloatArray] = {}
    acted_on = reached & (np.abs(error - 1.0) * 100.0 >= policy.dead_band_percent)
    stages[DEAD_BAND] = np.where(acted_on, error, 1.0)
    stages[STRENGTH] = 1.0 + policy.strength / 100.0 * (stages[DEAD_BAND] - 1.0)
    stages[BIAS] = np.where(acted_on, stages[STRENGTH] * (1.0 + policy.rich_bias_percent / 100.0), 1.0)
    stages[SMOOTHING] = smoothed(stages[BIAS], acted_on & open_to_change, policy.smoothing)
    filled = np.zeros(shape, dtype=np.bool_)
    stages[UNREACHED] = stages[SMOOTHING]
    if policy.unreached != "leave":
        stages[UNREACHED] = spread_outwards(stages[SMOOTHING], reached, fade=policy.unreached == "fade")
        filled = ~reached
    most = policy.limit_percent / 100.0
    stages[LIMIT] = np.clip(stages[UNREACHED], 1.0 - most, 1.0 + most)
    limited = stages[LIMIT] != stages[UNREACHED]
    stages[CHOICE] = factor = np.where(open_to_change, stages[LIMIT], 1.0)
    before = table.grid
    after = np.where(factor == 1.0, before, table.rounded(before * factor))
    held_by_table = (factor != 1.0) & (after != np.round(before * factor, table.decimals))
    moved = after != before

    state = np.full(shape, State.KEPT, dtype=object)
    state[~reached] = State.THIN
    state[moved & reached] = State.CHANGED
    state[moved & filled] = State.FILLED
    state[open_to_change & (reached | filled) & (limited | held_by_table)] = State.LIMITED
    state[~open_to_change] = State.KEPT
    state[pinned] = State.PINNED
    return Correction(after, factor, state, MappingProxyType(stages))
