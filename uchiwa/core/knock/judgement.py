"""Real knock or noise: each cluster of events judged, with the reasons for and against."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.knock.evidence import Knock, Placed
from uchiwa.core.log import FloatArray
from uchiwa.core.table import Table

SMALL = 1.5
FEW = 2
LOUD = 1.35
LOWER = 3.0


class Verdict(StrEnum):
    """What a cluster is held to be."""

    REAL = "real"
    NOISE = "noise"
    UNSURE = "unsure"


@dataclass(frozen=True)
class Reason:
    """One thing that speaks for real knock (weight over 0) or for noise (under 0)."""

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
    for cells in _together({(one.i, one.j) for one in knock.events}):
        events = tuple(one for one in knock.events if (one.i, one.j) in cells)
        worst = max(one.event.retard for one in events)
        found.append((worst, events, tuple(sorted(cells)), _reasons(events, cells, knock, table, safer)))
    bound = [_speed(events) for _, events, _, why in found if any(one.words.endswith(_WHATEVER) for one in why)]
    found.sort(key=lambda one: (-one[0], -len(one[1])))
    judged = []
    for at, (worst, events, where, why) in enumerate(found, 1):
        if not any(one.words.endswith(_WHATEVER) for one in why) and any(
            abs(_speed(events) - one) < _ALIKE for one in bound
        ):
            why = (
                *(one for one in why if one.words != _WITH_LOAD),
                Reason(f"something at {_speed(events):.0f} rpm sounds at other loads too", -4.0),
            )
        judged.append(Cluster(at, events, where, worst, _verdict(why), why))
    return tuple(judged)


_WHATEVER = "whatever the load"
_WITH_LOAD = "it comes with load, not with speed alone"
_ALIKE = 150.0


def _speed(events: Sequence[Placed]) -> float:
    return float(np.median([one.speed for one in events]))


def _verdict(reasons: Sequence[Reason]) -> Verdict:
    total = sum(one.weight for one in reasons)
    return Verdict.REAL if total >= 1.0 else Verdict.NOISE if total <= -1.0 else Verdict.UNSURE


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
    why: list[Reason] = []
    marks = sum(one.event.sign == "mark" for one in events)
    if marks:
        why.append(Reason(f"the driver heard it {marks} time{'s' if marks > 1 else ''}", 2.0))
    count, worst = len(events), max(one.event.retard for one in events)
    if count >= 4:
        why.append(Reason(f"it comes again and again: {count} events", 1.0))
    elif count <= FEW and worst <= SMALL:
        why.append(Reason(f"{'a single' if count == 1 else 'two'} small event{'s' if count > 1 else ''}", -1.5))
    disturbed = [one.disturbed for one in events if one.disturbed]
    if len(disturbed) >= 0.6 * count:
        common = max(set(disturbed), key=disturbed.count)
        why.append(Reason(f"{len(disturbed)} of {count} within half a second of {common}", -2.5))
    elif count >= 3 and len(disturbed) <= 0.3 * count:
        why.append(
            Reason(f"{count - len(disturbed)} of {count} far from any shift, snap of the throttle or limiter", 0.5)
        )
    loaded = [one for one in events if one.throttle > _OPEN and _high(one, table)]
    if len(loaded) >= 0.8 * count:
        why.append(Reason("at full load, where spark is nearest to its limit", 0.75))
    middle = _speed(events)
    bound = _load_bound([one for one in knock.events if abs(one.speed - middle) < _ALIKE], events, knock, table)
    if bound is not None:
        why.append(bound)
    levels = np.array([one.event.level for one in events])
    if np.isfinite(levels).any():
        middle = float(np.nanmedian(levels))
        if middle >= LOUD:
            why.append(Reason(f"the sensor heard {middle:.1f} times its limit", 0.5))
    if safer is not None:
        told = _at_less_spark(cells, knock, safer)
        if told is not None:
            why.append(told)
    return tuple(why)


_OPEN = 75.0


def _high(event: Placed, table: Table) -> bool:
    """Whether an event lies in the upper half of a table's loads."""
    return table.y is None or event.load >= float(table.y.breakpoints.mean())


def _load_bound(near: Sequence[Placed], events: Sequence[Placed], knock: Knock, table: Table) -> Reason | None:
    """Knock comes with load; what comes at a speed whatever the load is something loose.

    Args:
        near: all events at about the speed of the cluster, whatever their load.
        events: of the cluster.
    """
    if table.y is None or len(near) < 4:
        return None
    columns = sorted({one.i for one in near})
    time_there: FloatArray = knock.dwell[:, columns].sum(axis=1)
    if (time_there > 0.5).sum() < 3:
        return None
    loads = table.y.breakpoints
    share = time_there / time_there.sum()
    expected = float((loads * share).sum())
    spread = float(np.sqrt((share * (loads - expected) ** 2).sum()))
    heard = np.array([one.load for one in near])
    z = (float(heard.mean()) - expected) / max(spread, 1e-9)
    # Something loose sounds at every load that its speed is run at; what keeps to one load is not bound to speed alone.
    if z <= 0.35 and float(np.std(heard)) >= 0.5 * spread:
        return Reason(f"it is bound to {_speed(events):.0f} rpm, {_WHATEVER}", -4.0)
    if (float(np.mean([one.load for one in events])) - expected) / max(spread, 1e-9) >= 0.9 and len(events) >= 4:
        return Reason(_WITH_LOAD, 1.0)
    return None


def _at_less_spark(cells: set[tuple[int, int]], knock: Knock, safer: Knock) -> Reason | None:
    """The same rate with clearly less spark is noise; none at all is knock."""
    j, i = np.array([one[1] for one in cells]), np.array([one[0] for one in cells])
    less = knock.spark[j, i] - safer.spark[j, i]
    use = (safer.dwell[j, i] > 0) & (less >= LOWER)
    seconds, safe_seconds = float(knock.dwell[j, i][use].sum()), float(safer.dwell[j, i][use].sum())
    if safe_seconds < 2.0 or seconds <= 0:
        return None
    now, then = knock.count[j, i][use].sum() / seconds, safer.count[j, i][use].sum() / safe_seconds
    expected = now * safe_seconds
    degrees = float(less[use].mean())
    if expected >= 2.0 and then <= 0.2 * now:
        return Reason(f"with {degrees:.0f}° less spark it is gone", 2.0)
    if then >= 0.5 * now:
        return Reason(f"with {degrees:.0f}° less spark it comes as often", -4.0)
    return None
