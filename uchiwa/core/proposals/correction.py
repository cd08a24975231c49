"""From evidence to corrected values: the steps of a policy, cell by cell."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.bins import Bins
from uchiwa.core.log import BoolArray, FloatArray
from uchiwa.core.proposals.estimate import Estimate, enough_evidence
from uchiwa.core.proposals.fill import continued_surface, smoothed, spread_outwards
from uchiwa.core.proposals.policy import Cell, Policy
from uchiwa.core.proposals.rising import rising
from uchiwa.core.table import Table
from uchiwa.core.zones import Zone, refit

DEAD_BAND = "dead band"
STRENGTH = "strength"
BIAS = "rich bias"
SMOOTHING = "smoothing"
UNREACHED = "unreached cells"
LIMIT = "limit per round"
RISING = "rising"
REFIT = "refit"
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
        zones: of a table held as polynomials, the refitted ones.
        misfit: of such a table, what they miss of the values wanted, %; None otherwise.
    """

    after: FloatArray
    factor: FloatArray
    state: NDArray[np.object_]
    stages: Mapping[str, FloatArray]
    zones: tuple[Zone, ...] = ()
    misfit: FloatArray | None = None

    def applied_to(self, table: Table) -> Table:
        """The table as proposed."""
        return replace(table.with_grid(self.after), zones=self.zones)


def cells_mask(cells: tuple[Cell, ...] | None, shape: tuple[int, int], default: bool) -> BoolArray:
    """A mask of the cells [i, j] (column, row); cells beyond the table are ignored; None gives `default`."""
    if cells is None:
        return np.full(shape, default)
    mask = np.zeros(shape, dtype=np.bool_)
    for i, j in cells:
        if j < shape[0] and i < shape[1]:
            mask[j, i] = True
    return mask


def correct(table: Table, bins: Bins, found: Estimate, policy: Policy) -> Correction:
    """Multiply a table by its measured error as a policy allows.

    In this order: evidence, dead band, strength, rich bias, smoothing, unreached cells, limit per round, pins and
    choice of cells; an airflow meter's curve kept rising; rounding and the table's own limits. A table held as
    polynomials is then refitted, by which pinned cells are held as well as the polynomial can.
    """
    shape = table.shape
    pinned = cells_mask(policy.pinned, shape, default=False)
    open_to_change = cells_mask(policy.only, shape, default=True) & ~pinned
    reached = enough_evidence(bins, policy)
    error = np.where(reached, found.factor, 1.0)
    stages: dict[str, FloatArray] = {}
    acted_on = reached & (np.abs(error - 1.0) * 100.0 >= policy.dead_band_percent)
    stages[DEAD_BAND] = np.where(acted_on, error, 1.0)
    stages[STRENGTH] = 1.0 + policy.strength / 100.0 * (stages[DEAD_BAND] - 1.0)
    stages[BIAS] = np.where(acted_on, stages[STRENGTH] * (1.0 + policy.rich_bias_percent / 100.0), 1.0)
    stages[SMOOTHING] = smoothed(stages[BIAS], acted_on & open_to_change, policy.smoothing)
    filled = np.zeros(shape, dtype=np.bool_)
    stages[UNREACHED] = stages[SMOOTHING]
    if policy.unreached == "surface" and found.surface is not None:
        beyond = continued_surface(found.surface.factor, found.surface.standard_error)
        beyond = 1.0 + policy.strength / 100.0 * (beyond - 1.0)
        stages[UNREACHED] = np.where(reached, stages[SMOOTHING], beyond)
        filled = ~reached
    elif policy.unreached in ("fade", "carry"):
        stages[UNREACHED] = spread_outwards(stages[SMOOTHING], reached, fade=policy.unreached == "fade")
        filled = ~reached
    most = policy.limit_percent / 100.0
    stages[LIMIT] = np.clip(stages[UNREACHED], 1.0 - most, 1.0 + most)
    limited = stages[LIMIT] != stages[UNREACHED]
    stages[CHOICE] = factor = np.where(open_to_change, stages[LIMIT], 1.0)
    before = table.grid
    if table.role == "maf_curve" and (factor != 1.0).any() and (np.diff(before[0]) > 0).all():
        kept_rising = rising((before * factor)[0], 1.0 + bins.dwell[0], factor[0] == 1.0, 10.0**-table.decimals)
        with np.errstate(invalid="ignore", divide="ignore"):
            raised = np.where(before > 0, kept_rising / before, factor)
        limited |= np.abs(raised - factor) > 1e-9
        stages[RISING] = factor = np.where(np.abs(raised - factor) > 1e-12, raised, factor)
    after = np.where(factor == 1.0, before, table.rounded(before * factor))
    held_by_table = (factor != 1.0) & (after != np.round(before * factor, table.decimals))
    zones, misfit = table.zones, None
    if table.zones and table.y is not None and (after != before).any():
        wanted = after
        weight = np.where(reached, np.sqrt(bins.dwell), 0.0) + np.where(pinned, np.sqrt(bins.dwell.max()) + 1, 0.0)
        zones = refit(table.zones, table.x.breakpoints, table.y.breakpoints, wanted, weight)
        after = table.with_zones(zones).grid
        with np.errstate(invalid="ignore", divide="ignore"):
            misfit = np.where(wanted != 0, (after / wanted - 1) * 100, 0.0)
            stages[REFIT] = factor = np.where(before != 0, after / before, 1.0)
        held_by_table = np.zeros(shape, dtype=np.bool_)
        filled = filled | ~reached
    moved = after != before

    state = np.full(shape, State.KEPT, dtype=object)
    state[~reached] = State.THIN
    state[moved & reached] = State.CHANGED
    state[moved & filled] = State.FILLED
    state[open_to_change & (reached | filled) & (limited | held_by_table)] = State.LIMITED
    state[~open_to_change] = State.KEPT
    state[pinned] = State.PINNED
    return Correction(after, factor, state, MappingProxyType(stages), zones, misfit)
