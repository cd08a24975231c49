"""From evidence to corrected values: the steps of a policy, cell by cell."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import StrEnum
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.evidence.bins import Bins
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.fuel.estimate import Estimate, enough_evidence
from uchiwa.core.proposals.fuel.filling import above_measured_load, continued_surface, smoothed, spread_outwards
from uchiwa.core.proposals.fuel.own_samples import Direction, direction
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.rising import rising
from uchiwa.core.tables.table import Table
from uchiwa.core.tables.zones import Zone, refit

BIAS = "rich bias"
DEAD_BAND = "dead band"
CHANCE = "chance"
STRENGTH = "strength"
SMOOTHING = "smoothing"
LIMIT = "limit per round"
OWN = "own samples"
CHOICE = "pins and chosen cells"
UNREACHED = "unreached cells"
LOAD = "above the measured load"
RISING = "rising"
REFIT = "refit"
STAGES = (BIAS, DEAD_BAND, CHANCE, STRENGTH, SMOOTHING, LIMIT, OWN, CHOICE, UNREACHED, LOAD, RISING, REFIT)
"""Every step of a correction, in its order."""
INTERVAL = 1.96
"""Standard errors of the 95 % interval that must not hold "no change"."""
_REFITS = 12


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
        held_at_load: cells that filling would have leaned above the highest load measured, and that stay for it.
    """

    after: FloatArray
    factor: FloatArray
    state: NDArray[np.object_]
    stages: Mapping[str, FloatArray]
    zones: tuple[Zone, ...] = ()
    misfit: FloatArray | None = None
    held_at_load: BoolArray | None = None

    def applied_to(self, table: Table) -> Table:
        """The table as proposed."""
        return replace(table.with_grid(self.after), zones=self.zones)


def correct(table: Table, bins: Bins, found: Estimate, policy: Policy) -> Correction:
    """Multiply a table by its measured error as a policy allows.

    First the cells with enough evidence: rich bias, dead band, chance (an interval that holds "no change" is not acted
    on), strength, smoothing, limit per round, the direction of a cell's own samples, pins and choice of cells. Then the
    others take after them. None of them leans above the highest load measured in its speed's region, unless the policy
    says so by name, and none goes against its own samples. An airflow meter's curve is kept rising. Rounding never takes a
    value past "no change", and filled cells are rounded towards it. A table held as polynomials is refitted, see `_refit`.
    """
    shape, before = table.shape, table.grid
    pinned = cells_mask(policy.pinned, shape, default=False)
    open_to_change = cells_mask(policy.only, shape, default=True) & ~pinned
    reached = enough_evidence(bins, policy)
    own = direction((bins.mean, *found.means), policy.rich_bias_percent / 100.0)
    stages: dict[str, FloatArray] = {}
    stages[BIAS] = np.where(reached, found.factor, 1.0) * np.where(reached, 1.0 + policy.rich_bias_percent / 100.0, 1.0)
    beyond = np.abs(stages[BIAS] - 1.0) * 100.0 >= policy.dead_band_percent
    stages[DEAD_BAND] = np.where(beyond, stages[BIAS], 1.0)
    sure = np.abs(stages[BIAS] - 1.0) > INTERVAL * np.nan_to_num(found.standard_error, nan=np.inf)
    acted_on = reached & beyond & sure
    stages[CHANCE] = np.where(acted_on, stages[DEAD_BAND], 1.0)
    stages[STRENGTH] = 1.0 + policy.strength / 100.0 * (stages[CHANCE] - 1.0)
    stages[SMOOTHING] = smoothed(stages[STRENGTH], acted_on & open_to_change, policy.smoothing)
    most = policy.limit_percent / 100.0
    stages[LIMIT] = np.clip(stages[SMOOTHING], 1.0 - most, 1.0 + most)
    limited = stages[LIMIT] != stages[SMOOTHING]
    stages[OWN] = own.held(stages[LIMIT])
    stages[CHOICE] = np.where(open_to_change, stages[OWN], 1.0)
    filled = ~reached & open_to_change if policy.unreached != "leave" else np.zeros(shape, dtype=np.bool_)
    others = _unreached(stages[CHOICE], reached, found, policy)
    stages[UNREACHED] = np.where(filled, own.held(np.clip(others, 1.0 - most, 1.0 + most)), stages[CHOICE])
    held_at_load = filled & (stages[UNREACHED] < 1.0) & above_measured_load(table, reached)
    if policy.lean_above_load:
        held_at_load[:] = False
    stages[LOAD] = factor = np.where(held_at_load, 1.0, stages[UNREACHED])
    if table.role == "maf_curve" and (factor != 1.0).any() and (np.diff(before[0]) > 0).all():
        kept_rising = rising(before[0], (before * factor)[0], reached[0], 10.0**-table.decimals)[None, :]
        with np.errstate(invalid="ignore", divide="ignore"):
            raised = np.where(before > 0, kept_rising / before, factor)
        limited |= np.abs(raised - factor) > 1e-9
        stages[RISING] = factor = np.where(np.abs(raised - factor) > 1e-12, raised, factor)
    after = _rounded(table, factor, filled)
    held_by_table = (factor != 1.0) & ~filled & (after != np.round(before * factor, table.decimals))
    zones, misfit = table.zones, None
    if table.zones and table.y is not None and (after != before).any():
        wanted = after
        weight = np.where(reached, np.sqrt(bins.dwell), 0.0) + np.where(pinned, np.sqrt(bins.dwell.max()) + 1, 0.0)
        held = np.zeros(shape, dtype=np.bool_) if policy.lean_above_load else above_measured_load(table, reached)
        zones, after = _refit(table, wanted, weight, own, held & ~reached)
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
    state[open_to_change & (reached | (filled & moved)) & (limited | held_by_table)] = State.LIMITED
    state[~open_to_change] = State.KEPT
    state[pinned] = State.PINNED
    return Correction(after, factor, state, MappingProxyType(stages), zones, misfit, held_at_load & ~pinned)


def _unreached(measured: FloatArray, reached: BoolArray, found: Estimate, policy: Policy) -> FloatArray:
    """Factors of all cells, those not reached as the policy has it."""
    if policy.unreached == "surface" and found.surface is not None:
        surface = found.surface
        part = 1.0 + policy.strength / 100.0 * (surface.factor - 1.0)
        return continued_surface(part, surface.standard_error, measured, reached)
    if policy.unreached == "leave":
        return measured
    return spread_outwards(measured, reached, fade=policy.unreached != "carry")


def _rounded(table: Table, factor: FloatArray, filled: BoolArray) -> FloatArray:
    """Values at the table's precision and within its limits; rounding takes none past "no change" or out of its way."""
    before, fine = table.grid, 10.0**table.decimals
    exact = before * factor
    outward = table.rounded(exact)
    inward = table.rounded(np.where(exact > before, np.floor(exact * fine + 1e-6), np.ceil(exact * fine - 1e-6)) / fine)
    after = np.where(filled, inward, outward)
    wrong = ((after - before) * (exact - before) < 0) | (factor == 1.0)
    return np.where(wrong, before, after)


def _refit(
    table: Table, wanted: FloatArray, weight: FloatArray, own: Direction, never_lean: BoolArray
) -> tuple[tuple[Zone, ...], FloatArray]:
    """Polynomials that come near to the values wanted, and the values they give.

    A polynomial moves everything in its zone. Cells that it would move against their own samples, or lean although they must
    never be leaned, are held ever more strongly; a zone that still does so after some tries keeps its old coefficients.
    """
    if table.y is None:
        raise TypeError(f"table {table.id} is a curve and has no zones")
    x, y, before = table.x.breakpoints, table.y.breakpoints, table.grid
    grain = 0.5 * 10.0**-table.decimals
    target, weights = wanted.copy(), weight.copy()
    strongest = float(weight.max()) or 1.0
    zones = table.zones
    for _ in range(_REFITS):
        zones = refit(table.zones, x, y, target, weights)
        after = table.with_zones(zones).grid
        change = np.where(np.abs(after - before) > grain, after - before, 0.0)
        wrong = own.against(1.0 + change) | (never_lean & (change < 0))
        if not wrong.any():
            return zones, after
        target = np.where(wrong, before, target)
        weights = np.where(wrong, np.maximum(weights, strongest) * 4.0, weights)
    at_x, at_y = np.meshgrid(x, y)
    taken = np.zeros(before.shape, dtype=np.bool_)
    mixed: list[Zone] = []
    for old, new in zip(table.zones, zones, strict=True):
        inside = old.covers(at_x, at_y) & ~taken
        taken |= inside
        mixed.append(old if (inside & wrong).any() else new)
    return tuple(mixed), table.with_zones(tuple(mixed)).grid
