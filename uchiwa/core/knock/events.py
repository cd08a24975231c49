"""Knock events: each moment at which the controller, its sensor or the driver said knock."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.log import BoolArray, FloatArray

RISE = 0.4
"""Degrees by which retard must rise for an event."""
APART_S = 0.25
FOLLOWS_S = 0.3
"""Seconds after an event whose retard is its own."""
"""Signs closer than this belong to one event."""


class Sign(StrEnum):
    """What an event was told from."""

    RETARD = "retard"
    COUNT = "count"
    LEVEL = "level"
    MARK = "mark"


@dataclass(frozen=True)
class Event:
    """One event.

    Attributes:
        at: s in the log.
        sign: what told it.
        retard: the most retard within the third of a second after it, degrees; 0 if retard was not recorded. What comes
            later lies in another cell, or is an event of its own.
        level: the sensor's level, as a multiple of its limit; NaN if not recorded.
        index: sample at which it begins.
    """

    at: float
    sign: Sign
    retard: float
    level: float
    index: int


def _edges(active: BoolArray) -> list[int]:
    """Samples at which something begins."""
    return [int(one) for one in np.flatnonzero(active & ~np.concatenate([[False], active[:-1]]))]


def knock_events(time: FloatArray, signals: Mapping[str, FloatArray]) -> list[Event]:
    """The knock events of a log, in order.

    Retard that rises, a count that grows, a level above its limit, and the driver's mark are signs; of signs within a
    quarter of a second the first in this order tells what the event is.

    Args:
        time: s, rising; shape (n,).
        signals: canonical readings by quantity, each of shape (n,).
    """
    retard, level, limit = (signals.get(one) for one in ("knock_retard", "knock_level", "knock_limit"))
    begun: list[tuple[int, Sign]] = []
    if retard is not None:
        step = np.diff(retard, prepend=retard[:1])
        begun += [(at, Sign.RETARD) for at in np.flatnonzero(np.nan_to_num(step) >= RISE).tolist()]
    count = signals.get("knock_count")
    if count is not None:
        begun += [(at, Sign.COUNT) for at in np.flatnonzero(np.diff(count, prepend=count[:1]) > 0).tolist()]
    ratio = None
    if level is not None and limit is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = level / limit
        begun += [(at, Sign.LEVEL) for at in _edges(np.nan_to_num(ratio) > 1.0)]
    if "marker" in signals:
        begun += [(at, Sign.MARK) for at in _edges(signals["marker"] > 0.5)]
    order = list(Sign)
    events: list[Event] = []
    for at, sign in sorted(begun, key=lambda one: (time[one[0]], order.index(one[1]))):
        if events and time[at] - events[-1].at < APART_S:
            continue
        stop = int(np.searchsorted(time, time[at] + FOLLOWS_S))
        worst = float(np.nanmax(retard[at : stop + 1])) if retard is not None and stop >= at else 0.0
        near = slice(max(at - 2, 0), at + 3)
        heard = float(np.nanmax(ratio[near])) if ratio is not None and np.isfinite(ratio[near]).any() else float("nan")
        events.append(Event(float(time[at]), sign, worst if np.isfinite(worst) else 0.0, heard, at))
    return events
