"""Real knock or noise: each cluster of events judged, with the reasons for and against."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.knock.events import RISE, Sign
from uchiwa.core.knock.evidence import Knock, Placed
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.orientation import axis_of, load_axis
from uchiwa.core.tables.table import Table

SMALL = 1.5
FEW = 2
LOUD = 1.35
LOWER = 3.0
"""Degrees less spark from which a comparison says something."""
SAFE = 6.0
"""Degrees less spark with which real knock would be gone: what is still heard there is noise."""
GRAVE = 3.0
"""Retard, degrees, from which a cluster is never called noise without a run with safe spark."""
_SAME_RPM = 250.0
_WELL_OPEN, _NEAR_AMBIENT = 60.0, 0.85


class Verdict(StrEnum):
    """What a cluster is held to be."""

    REAL = "real"
    NOISE = "noise"
    UNSURE = "unsure"


class ReasonKind(StrEnum):
    """What a reason rests on."""

    DRIVER = "driver"
    REPEATED = "repeated"
    SMALL = "small"
    DISTURBED = "disturbed"
    UNDISTURBED = "undisturbed"
    FULL_LOAD = "full_load"
    WITH_LOAD = "with_load"
    ANY_LOAD = "any_load"
    SAME_SPEED = "same_speed"
    LOUD = "loud"
    GONE = "gone"
    STAYS = "stays"
    STAYS_WHEN_SAFE = "stays_when_safe"
    LEARNED = "learned"
    ONE_CYLINDER = "one_cylinder"


@dataclass(frozen=True)
class Reason:
    """One thing that speaks for real knock (weight over 0), for noise (under 0), or is to be known: its code, and words."""

    code: ReasonKind
    words: str
    weight: float


@dataclass(frozen=True, eq=False)
class Cluster:
    """Events that lie together on the table.

    Attributes:
        number: from 1.
        events: of it.
        cells: [i, j] in which they lie.
        worst: the most retard, degrees.
        verdict: by the reasons.
        reasons: for and against.
    """

    number: int
    events: tuple[Placed, ...]
    cells: tuple[tuple[int, int], ...]
    worst: float
    verdict: Verdict
    reasons: tuple[Reason, ...]


def clusters(knock: Knock, table: Table, safer: Knock | None = None) -> tuple[Cluster, ...]:
    """Events in cells that touch, also at the corners, judged together; the strongest first.

    Args:
        safer: the same table from logs with less spark, if there are any: what is heard there as often cannot be knock.
    """
    found: list[tuple[float, tuple[Placed, ...], tuple[tuple[int, int], ...], tuple[Reason, ...]]] = []
    for cells in _together({(event.i, event.j) for event in knock.events}):
        events = tuple(event for event in knock.events if (event.i, event.j) in cells)
        worst = max(event.event.retard for event in events)
        found.append((worst, events, tuple(sorted(cells)), _reasons(events, cells, knock, table, safer)))
    bound = [_speed(events) for _, events, _, why in found if _has(why, ReasonKind.ANY_LOAD)]
    found.sort(key=lambda one: (-one[0], -len(one[1])))
    judged = []
    for at, (worst, events, where, why) in enumerate(found, 1):
        if not _has(why, ReasonKind.ANY_LOAD) and any(abs(_speed(events) - one) < _ALIKE for one in bound):
            why = (
                *(reason for reason in why if reason.code is not ReasonKind.WITH_LOAD),
                Reason(ReasonKind.SAME_SPEED, f"something at {_speed(events):.0f} rpm sounds at other loads too", -4.0),
            )
        judged.append(Cluster(at, events, where, worst, _verdict(why, events, worst, table), why))
    return tuple(judged)


_ALIKE = 150.0


def _has(reasons: Sequence[Reason], code: ReasonKind) -> bool:
    return any(reason.code is code for reason in reasons)


def _speed(events: Sequence[Placed]) -> float:
    return float(np.median([event.speed for event in events]))


def _verdict(reasons: Sequence[Reason], events: Sequence[Placed], worst: float, table: Table) -> Verdict:
    """By the weights; but three degrees, the same place twice, what the controller has learned, or anything under load is
    noise only if safe spark did not silence it.
    """
    total = sum(reason.weight for reason in reasons)
    if total >= 1.0:
        return Verdict.REAL
    if total > -1.0:
        return Verdict.UNSURE
    grave = (
        worst >= GRAVE
        or _has(reasons, ReasonKind.LEARNED)
        or _same_place_twice(events)
        or any(_under_load(event, table) for event in events)
    )
    return Verdict.UNSURE if grave and not _has(reasons, ReasonKind.STAYS_WHEN_SAFE) else Verdict.NOISE


def _under_load(event: Placed, table: Table) -> bool:
    """Whether the engine was loaded so far that it may knock: near ambient pressure, or with the throttle well open."""
    if event.throttle > _WELL_OPEN:
        return True
    along = load_axis(table)
    axis = axis_of(table, along)
    if axis is None:
        return False
    least = {"manifold_pressure": _NEAR_AMBIENT * 100.0, "pressure_ratio": _NEAR_AMBIENT}.get(axis.quantity)
    if least is None or (axis.quantity == "manifold_pressure" and axis.unit != "kPa"):
        least = float(axis.breakpoints.mean())
    return _load(event, along) >= least


def _same_place_twice(events: Sequence[Placed]) -> bool:
    """Whether two events lie in one cell, or in touching ones at nearly the same speed."""
    for number, event in enumerate(events):
        for other in events[:number]:
            same = (event.i, event.j) == (other.i, other.j)
            if same or (
                max(abs(event.i - other.i), abs(event.j - other.j)) <= 1 and abs(event.speed - other.speed) < _SAME_RPM
            ):
                return True
    return False


def _together(cells: set[tuple[int, int]]) -> list[set[tuple[int, int]]]:
    groups, left = [], set(cells)
    while left:
        group, ahead = set(), [left.pop()]
        while ahead:
            i, j = ahead.pop()
            group.add((i, j))
            near = {(i + a, j + b) for a in (-1, 0, 1) for b in (-1, 0, 1)} & left
            left -= near
            ahead += near
        groups.append(group)
    return groups


def _reasons(
    events: Sequence[Placed], cells: set[tuple[int, int]], knock: Knock, table: Table, safer: Knock | None
) -> tuple[Reason, ...]:
    """What speaks for and against, from PRACTICE's list: repetition, load, disturbances, level, spark."""
    heard = [event for event in events if event.event.sign is not Sign.LEARNED]
    middle = _speed(events)
    near = [event for event in knock.events if abs(event.speed - middle) < _ALIKE]
    found = (
        _by_driver(events),
        _by_learning(events),
        _one_cylinder(events),
        *(_by_repetition(heard) if heard else ()),
        _by_load(events, table),
        _load_bound(near, events, knock, table),
        _by_level(events),
        _at_less_spark(cells, knock, safer) if safer is not None else None,
    )
    return tuple(one for one in found if one is not None)


def _by_driver(events: Sequence[Placed]) -> Reason | None:
    marks = sum(event.event.sign == "mark" for event in events)
    if not marks:
        return None
    return Reason(ReasonKind.DRIVER, f"the driver heard it {marks} time{'s' if marks > 1 else ''}", 2.0)


def _by_learning(events: Sequence[Placed]) -> Reason | None:
    learned = max(event.event.learned for event in events)
    if not learned >= RISE:
        return None
    return Reason(ReasonKind.LEARNED, f"the controller has learned to hold {learned:.1f}° back", 1.0)


def _by_load(events: Sequence[Placed], table: Table) -> Reason | None:
    loaded = [event for event in events if not event.throttle <= _OPEN and _high(event, table)]
    if len(loaded) < 0.8 * len(events):
        return None
    return Reason(ReasonKind.FULL_LOAD, "at full load, where spark is nearest to its limit", 0.75)


def _by_level(events: Sequence[Placed]) -> Reason | None:
    levels = np.array([event.event.level for event in events])
    if not np.isfinite(levels).any() or float(np.nanmedian(levels)) < LOUD:
        return None
    return Reason(ReasonKind.LOUD, f"the sensor heard {float(np.nanmedian(levels)):.1f} times its limit", 0.5)


def _by_repetition(heard: Sequence[Placed]) -> list[Reason]:
    """How often it comes, and whether something else came with it; what was only learned is not heard anew."""
    why: list[Reason] = []
    count, worst = len(heard), max(placed.event.retard for placed in heard)
    if count >= 4:
        why.append(Reason(ReasonKind.REPEATED, f"it comes again and again: {count} events", 1.0))
    elif count <= FEW and worst <= SMALL:
        why.append(
            Reason(
                ReasonKind.SMALL, f"{'a single' if count == 1 else 'two'} small event{'s' if count > 1 else ''}", -1.5
            )
        )
    disturbed = [placed.disturbed for placed in heard if placed.disturbed is not None]
    if len(disturbed) >= 0.6 * count:
        common = max(set(disturbed), key=disturbed.count)
        words = f"{len(disturbed)} of {count} within half a second of {common.value}"
        why.append(Reason(ReasonKind.DISTURBED, words, -2.5))
    elif count >= 3 and len(disturbed) <= 0.3 * count:
        words = f"{count - len(disturbed)} of {count} far from any shift, snap of the throttle or limiter"
        why.append(Reason(ReasonKind.UNDISTURBED, words, 0.5))
    return why


def _one_cylinder(events: Sequence[Placed]) -> Reason | None:
    """That it is always the same cylinder: of no weight for or against, but good to know."""
    told = [event.event.cylinder for event in events if event.event.cylinder]
    if len(told) < _SAME_CYLINDER or len(told) < len(events) / 2:
        return None
    usual = max(set(told), key=told.count)
    share = told.count(usual)
    if share < 0.8 * len(told):
        return None
    return Reason(
        ReasonKind.ONE_CYLINDER,
        f"{share} of {len(told)} on cylinder {usual}: look at its plug, injector and sensor",
        0.0,
    )


_SAME_CYLINDER = 3
_OPEN = 75.0


def _high(event: Placed, table: Table) -> bool:
    """Whether an event lies in the upper half of a table's loads."""
    along = load_axis(table)
    axis = axis_of(table, along)
    return axis is None or _load(event, along) >= float(axis.breakpoints.mean())


def _load(event: Placed, along: int | None) -> float:
    return event.y if along == 0 else event.x


def _load_bound(near: Sequence[Placed], events: Sequence[Placed], knock: Knock, table: Table) -> Reason | None:
    """Knock comes with load; what comes at a speed whatever the load is something loose.

    Args:
        near: all events at about the speed of the cluster, whatever their load.
        events: of the cluster.
    """
    along = load_axis(table)
    axis = axis_of(table, along)
    if axis is None or table.y is None or len(near) < 4:
        return None
    beside = sorted({placed.i if along == 0 else placed.j for placed in near})
    time_there: FloatArray = (knock.dwell[:, beside] if along == 0 else knock.dwell[beside].T).sum(axis=1)
    if (time_there > 0.5).sum() < 3:
        return None
    loads = axis.breakpoints
    share = time_there / time_there.sum()
    expected = float((loads * share).sum())
    spread = float(np.sqrt((share * (loads - expected) ** 2).sum()))
    heard = np.array([_load(placed, along) for placed in near])
    z = (float(heard.mean()) - expected) / max(spread, 1e-9)
    # Something loose sounds at every load that its speed is run at; what keeps to one load is not bound to speed alone.
    if z <= 0.35 and float(np.std(heard)) >= 0.5 * spread:
        return Reason(ReasonKind.ANY_LOAD, f"it is bound to {_speed(events):.0f} rpm, whatever the load", -4.0)
    mine = float(np.mean([_load(event, along) for event in events]))
    if (mine - expected) / max(spread, 1e-9) >= 0.9 and len(events) >= 4:
        return Reason(ReasonKind.WITH_LOAD, "it comes with load, not with speed alone", 1.0)
    return None


def _at_less_spark(cells: set[tuple[int, int]], knock: Knock, safer: Knock) -> Reason | None:
    """The same rate with clearly less spark is noise; none at all is knock."""
    j, i = np.array([cell[1] for cell in cells]), np.array([cell[0] for cell in cells])
    less = knock.spark[j, i] - safer.spark[j, i]
    use = (safer.dwell[j, i] > 0) & (less >= LOWER)
    seconds, safe_seconds = float(knock.dwell[j, i][use].sum()), float(safer.dwell[j, i][use].sum())
    if safe_seconds < 2.0 or seconds <= 0:
        return None
    now, then = knock.count[j, i][use].sum() / seconds, safer.count[j, i][use].sum() / safe_seconds
    if now <= 0:
        return None
    expected = now * safe_seconds
    degrees = float(less[use].mean())
    if expected >= 2.0 and then <= 0.2 * now:
        return Reason(ReasonKind.GONE, f"with {degrees:.0f}° less spark it is gone", 2.0)
    if then >= 0.5 * now:
        safe = degrees >= SAFE
        code = ReasonKind.STAYS_WHEN_SAFE if safe else ReasonKind.STAYS
        return Reason(code, f"with {degrees:.0f}° less spark it comes as often", -4.0 if safe else -1.5)
    return None
