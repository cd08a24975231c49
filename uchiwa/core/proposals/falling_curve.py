"""A curve over coolant, moved as a policy allows: what is measured, what follows from it, and that it never rises."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.evidence.falling_fit import FallingFit
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.tables.table import Table

DEAD_BAND = "dead band"
CHANCE = "chance"
STRENGTH = "strength"
LIMIT = "limit per round"
OWN = "own samples"
CHOICE = "pins and chosen cells"
TREND = "temperatures not reached"
FALLING = "never rising"
STAGES = (DEAD_BAND, CHANCE, STRENGTH, LIMIT, OWN, CHOICE, TREND, FALLING)
"""Every step, in its order."""
_HALVINGS = 40


class State(StrEnum):
    """What happened to a value."""

    CHANGED = "changed"
    KEPT = "kept"
    PINNED = "pinned"
    THIN = "thin"
    LIMITED = "limited"
    FILLED = "filled"
    FIXED = "fixed"


@dataclass(frozen=True, eq=False)
class CurvePolicy:
    """What a policy comes to for one curve of n values; arrays of shape (n,).

    Attributes:
        strength: share of a measured change that is made, 0 … 1.
        limit: largest change, in the curve's unit.
        dead_band: smaller measured changes are not made, in the curve's unit.
        minimum_samples, minimum_dwell_s: evidence asked of a value.
        open_: values that may change at all.
        pinned: among the others, those that a person has pinned.
        trend: whether values not reached follow those that were.
        colder_down: whether colder values than were reached may be lowered; warm-up's may not.
        fixed: values that are known without samples, such as 100 % warm; NaN elsewhere.
        lowest: below which no value makes sense.
        colder: what values colder than all that were reached are to be at least; shape (n,), or None.
    """

    strength: float
    limit: FloatArray
    dead_band: FloatArray
    minimum_samples: float
    minimum_dwell_s: float
    open_: BoolArray
    pinned: BoolArray
    trend: bool
    colder_down: bool
    fixed: FloatArray
    lowest: float = -np.inf
    colder: FloatArray | None = None


@dataclass(frozen=True, eq=False)
class MovedCurve:
    """A curve as proposed; arrays of shape (n,).

    Attributes:
        after: values, at the table's precision and within its limits.
        state: a `State` each.
        reached: where the evidence was enough.
        stages: the change after each step, by the step's name.
        rising: whether it still rises somewhere, because pins or samples hold it.
    """

    after: FloatArray
    state: NDArray[np.object_]
    reached: BoolArray
    stages: Mapping[str, FloatArray]
    rising: bool


def enough(fit: FallingFit, policy: CurvePolicy) -> BoolArray:
    """Which values have the evidence that is asked for, with samples on their own side of the middle."""
    found: BoolArray = (
        (fit.weight >= policy.minimum_samples)
        & (fit.dwell >= policy.minimum_dwell_s)
        & np.isfinite(fit.mean)
        & np.isfinite(fit.half_width)
    )
    return found


def move_curve(table: Table, before: FloatArray, fit: FallingFit, policy: CurvePolicy) -> MovedCurve:
    """Move a curve towards what was fitted, as a policy allows.

    Values with enough evidence: dead band, chance (an interval that holds "no change" is not acted on), strength, limit,
    the direction of their own samples, pins. Then those not reached: between two that were, the change between theirs;
    colder than all, the coldest one's change (for warm-up, if it enriches); hotter, the hottest one's, which fades to a
    fixed value where there is one. At last nothing rises along the axis that did not rise before: changes that meet in a
    rise are taken back by halves, filled values first, and none of them is turned round.
    """
    if policy.strength <= 0.0:
        return _unmoved(before, fit, policy)
    reached = enough(fit, policy) & ~np.isfinite(policy.fixed)
    change = np.where(reached, fit.value - before, 0.0)
    stages: dict[str, FloatArray] = {}
    stages[DEAD_BAND] = np.where(np.abs(change) >= policy.dead_band, change, 0.0)
    width = np.where(np.isfinite(fit.half_width), fit.half_width, np.inf)
    stages[CHANCE] = np.where(np.abs(change) > width, stages[DEAD_BAND], 0.0)
    stages[STRENGTH] = stages[CHANCE] * policy.strength
    stages[LIMIT] = np.clip(stages[STRENGTH], -policy.limit, policy.limit)
    limited = stages[LIMIT] != stages[STRENGTH]
    own = np.sign(np.nan_to_num(fit.mean))
    stages[OWN] = _held(stages[LIMIT], own)
    stages[CHOICE] = np.where(policy.open_, stages[OWN], 0.0)
    known = np.isfinite(policy.fixed)
    stages[TREND] = np.where(reached, stages[CHOICE], _followed(table.x.breakpoints, before, reached, stages, policy))
    stages[TREND] = np.where(
        reached | known, stages[TREND], np.clip(_held(stages[TREND], own), -policy.limit, policy.limit)
    )
    stages[TREND] = np.where(known & policy.open_, np.nan_to_num(policy.fixed) - before, stages[TREND])
    least = np.maximum(stages[TREND], policy.lowest - before)
    stages[TREND] = np.where(policy.open_, least, 0.0)
    kept = without_rises(before, stages[TREND], firm=reached, fast=known)
    if policy.colder is None:
        kept = _no_further(before, kept, reached, known)
    stages[FALLING] = _raised(before, kept, own, policy)
    after = rounded_changes(table, before, stages[FALLING], reached)
    if policy.colder is None:
        alone = ~reached & ~_beside_moved(after != before, reached) & np.isclose(stages[FALLING], kept)
        after = np.where(alone, before, after)
    after = np.where(known & policy.open_, np.nan_to_num(policy.fixed), after)
    moved = after != before
    state = np.full(before.shape, State.KEPT, dtype=object)
    state[~reached] = State.THIN
    state[moved & reached] = State.CHANGED
    state[moved & ~reached] = State.FILLED
    state[moved & limited] = State.LIMITED
    state[moved & known] = State.FIXED
    state[~policy.open_] = State.KEPT
    state[policy.pinned] = State.PINNED
    rises = bool((np.diff(after) > 0).any())
    return MovedCurve(after, state, reached, MappingProxyType(stages), rises)


def _unmoved(before: FloatArray, fit: FallingFit, policy: CurvePolicy) -> MovedCurve:
    """The curve as it is, for no strength at all."""
    reached = enough(fit, policy)
    state = np.full(before.shape, State.KEPT, dtype=object)
    state[~reached] = State.THIN
    state[policy.pinned] = State.PINNED
    nothing = MappingProxyType({stage: np.zeros(before.shape) for stage in STAGES})
    return MovedCurve(before.astype(np.float64).copy(), state, reached, nothing, bool((np.diff(before) > 0).any()))


def _held(change: FloatArray, own: FloatArray) -> FloatArray:
    """Changes that go against a value's own samples are not made."""
    return np.where(change * own < 0, 0.0, change)


def _followed(
    points: FloatArray, before: FloatArray, reached: BoolArray, stages: Mapping[str, FloatArray], policy: CurvePolicy
) -> FloatArray:
    """Changes of the values not reached."""
    places = np.flatnonzero(reached)
    if places.size == 0 or not policy.trend:
        return np.zeros(before.shape)
    change = stages[CHOICE]
    follow = np.interp(points, points[places], change[places])
    colder = np.arange(points.size) < places[0]
    if not policy.colder_down:
        follow = np.where(colder, np.maximum(follow, 0.0), follow)
    if policy.colder is not None:
        follow = np.where(colder, np.maximum(follow, (policy.colder - before) * policy.strength), follow)
    fixed = np.flatnonzero(np.isfinite(policy.fixed))
    hotter = np.arange(points.size) > places[-1]
    if fixed.size and fixed[0] > places[-1]:
        span = points[fixed[0]] - points[places[-1]]
        fading = np.clip((points[fixed[0]] - points) / span, 0.0, 1.0) if span > 0 else 0.0
        follow = np.where(hotter, follow * fading, follow)
    return follow


def without_rises(before: FloatArray, change: FloatArray, firm: BoolArray, fast: BoolArray) -> FloatArray:
    """Changes under which the curve rises nowhere by more than it did, taken back by halves where they meet in a rise.

    Args:
        before: values; shape (n,).
        change: wanted; shape (n,).
        firm: values with evidence of their own, which give way last.
        fast: values that do not give way at all.
    """
    allowed = np.maximum(np.diff(before), 0.0) + 1e-9
    result = change.copy()
    for number in range(2 * _HALVINGS):
        meet = np.zeros(before.shape, dtype=np.bool_)
        for at in np.flatnonzero(np.diff(before + result) > allowed).tolist():
            pair = [one for one in (at, at + 1) if result[one] != 0.0 and not fast[one]]
            soft = [one for one in pair if not firm[one]]
            meet[soft or pair] = True
        if not meet.any():
            return result
        shrunk = result * (0.5 if number < _HALVINGS else 0.0)
        result = np.where(meet, np.where(np.abs(shrunk) < 1e-6, 0.0, shrunk), result)
    return np.where(fast, change, 0.0)


def _beside(reached: BoolArray) -> IntArray:
    """The reached places on either side of each value; shape (2, n). There must be one."""
    places = np.flatnonzero(reached)
    after = np.searchsorted(places, np.arange(reached.size))
    return np.asarray(places[np.stack([np.maximum(after - 1, 0), np.minimum(after, places.size - 1)])], dtype=np.int64)


def _beside_moved(moved: BoolArray, reached: BoolArray) -> BoolArray:
    """Values of which a reached one beside them did move, after all rounding."""
    if not reached.any():
        return np.zeros(moved.shape, dtype=np.bool_)
    return np.asarray(moved[_beside(reached)].any(axis=0))


def _no_further(before: FloatArray, change: FloatArray, reached: BoolArray, known: BoolArray) -> FloatArray:
    """Values not reached move no further than the reached ones beside them in the end do."""
    if not reached.any():
        return change
    beside = _beside(reached)
    for _ in range(_HALVINGS):
        most = np.abs(change)[beside].max(axis=0)
        capped = np.where(reached | known, change, np.clip(change, -most, most))
        capped = without_rises(before, capped, firm=reached, fast=known)
        if np.array_equal(capped, change):
            break
        change = capped
    return change


def _raised(before: FloatArray, change: FloatArray, own: FloatArray, policy: CurvePolicy) -> FloatArray:
    """Where the curve in the car itself rises along the axis, its colder values are raised, if nothing speaks against it."""
    after = before + change
    for at in range(after.size - 2, -1, -1):
        wanted = after[at + 1]
        free = policy.open_[at] and own[at] >= 0 and wanted - before[at] <= policy.limit[at] and policy.trend
        if after[at] < wanted and free and not np.isfinite(policy.fixed[at]):
            after[at] = wanted
    return np.asarray(after - before)


def rounded_changes(table: Table, before: FloatArray, change: FloatArray, reached: BoolArray) -> FloatArray:
    """Values at the table's precision and within its limits.

    Rounding takes none past "no change" or against its direction, no filled value further than its change, and makes no
    rise: where it would, the values that meet there are rounded to the nearest, and then stay as they are.
    """
    fine = 10.0**table.decimals
    exact = before + change
    nearest = table.rounded(exact)
    inward = table.rounded(np.where(change > 0, np.floor(exact * fine + 1e-6), np.ceil(exact * fine - 1e-6)) / fine)
    after = np.where(reached, nearest, inward)
    after = np.where(((after - before) * change <= 0) | (np.abs(change) < 1e-9), before, after)
    allowed = np.maximum(np.diff(before), 0.0) + 1e-9
    for other in (nearest, *[before] * before.size):
        rises = np.flatnonzero(np.diff(after) > allowed)
        if rises.size == 0:
            break
        meet = np.zeros(before.shape, dtype=np.bool_)
        meet[rises] = meet[rises + 1] = True
        after = np.where(meet & (after != before), other, after)
        after = np.where((after - before) * change < 0, before, after)
    return after
