"""Knock events: each moment at which the controller, its sensor or the driver said knock."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

import numpy as np

from uchiwa.core.log import BoolArray, FloatArray, Log

RISE = 0.4
"""Degrees by which retard must rise for an event, at once or little by little."""
APART_S = 0.25
"""Signs closer than this belong to one event."""
FOLLOWS_S = 0.3
"""Seconds after an event whose retard is its own."""
_NEAR_S = 0.15
SIGNS = ("knock_retard", "knock_count", "knock_level", "knock_limit", "marker")
"""Quantities from which events are told."""


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
        measured: whether the log records retard, so that `retard` is what the controller took out.
    """

    at: float
    sign: Sign
    retard: float
    level: float
    measured: bool = True


class Trace(NamedTuple):
    """A channel on its own time base: s, rising, and readings, both finite and of shape (n,)."""

    time: FloatArray
    values: FloatArray


def trace(time: FloatArray, values: FloatArray) -> Trace:
    """A channel's finite samples."""
    finite = np.isfinite(values)
    return Trace(time[finite], values[finite])


def degrees_out(values: FloatArray) -> FloatArray:
    """Retard as degrees taken out, over nought: loggers write it with either sign."""
    return np.abs(values)


def _edges(active: BoolArray) -> list[int]:
    """Samples at which something begins."""
    return [int(one) for one in np.flatnonzero(active & ~np.concatenate([[False], active[:-1]]))]


def _rises(retard: FloatArray) -> list[int]:
    """Samples by which retard has risen by `RISE` above the least since the last such sample; it begins at nought.

    So retard that was there when the log began is an event, and so is each step of retard that creeps.
    """
    found: list[int] = []
    low = 0.0
    for at, value in enumerate(retard.tolist()):
        low = min(low, value)
        if value - low >= RISE - 1e-9:
            found.append(at)
            low = value
    return found


def knock_events(time: FloatArray, signals: Mapping[str, FloatArray]) -> list[Event]:
    """The knock events of signals on one time base, in order; see `events_of`.

    Args:
        time: s, rising; shape (n,).
        signals: canonical readings by quantity, each of shape (n,).
    """
    return events_of({one: trace(time, signals[one]) for one in SIGNS if one in signals})


def log_events(log: Log) -> list[Event]:
    """The knock events of a log, each channel on its own time base."""
    traces: dict[str, Trace] = {}
    for raster in log.rasters:
        for channel in raster.channels:
            if channel.quantity in SIGNS and channel.quantity not in traces:
                traces[channel.quantity] = trace(raster.time, channel.values)
    return events_of(traces)


def events_of(traces: Mapping[str, Trace]) -> list[Event]:
    """The knock events that some channels tell, in order.

    Retard that rises, a count that grows, a level above its limit, and the driver's mark are signs; of signs within a
    quarter of a second the first in this order tells what the event is.
    """
    retard, count, marker = (traces.get(one) for one in ("knock_retard", "knock_count", "marker"))
    begun: list[tuple[float, Sign]] = []
    if retard is not None:
        retard = Trace(retard.time, degrees_out(retard.values))
        begun += [(float(retard.time[at]), Sign.RETARD) for at in _rises(retard.values)]
    if count is not None and count.values.size:
        grown = np.flatnonzero(np.diff(count.values, prepend=count.values[:1]) > 0)
        begun += [(float(count.time[at]), Sign.COUNT) for at in grown.tolist()]
    ratio = _over_limit(traces)
    if ratio is not None:
        begun += [(float(ratio.time[at]), Sign.LEVEL) for at in _edges(ratio.values > 1.0)]
    if marker is not None:
        begun += [(float(marker.time[at]), Sign.MARK) for at in _edges(marker.values > 0.5)]
    order = list(Sign)
    events: list[Event] = []
    for at, sign in sorted(begun, key=lambda one: (one[0], order.index(one[1]))):
        if events and at - events[-1].at < APART_S:
            continue
        worst = _highest(retard, at, at + FOLLOWS_S) if retard is not None else float("nan")
        heard = _highest(ratio, at - _NEAR_S, at + _NEAR_S) if ratio is not None else float("nan")
        events.append(Event(at, sign, worst if np.isfinite(worst) else 0.0, heard, retard is not None))
    return events


def _over_limit(traces: Mapping[str, Trace]) -> Trace | None:
    """The sensor's level as a multiple of its limit, on the level's own time base."""
    level, limit = traces.get("knock_level"), traces.get("knock_limit")
    if level is None or limit is None or limit.time.size == 0:
        return None
    allowed = np.interp(level.time, limit.time, limit.values)
    with np.errstate(divide="ignore", invalid="ignore"):
        return trace(level.time, np.where(allowed > 0, level.values / allowed, np.nan))


def _highest(of: Trace, first: float, last: float) -> float:
    """The highest reading from one moment to another, ends included; NaN if there is none."""
    a, b = np.searchsorted(of.time, [first - 1e-9, last + 1e-9])
    return float(of.values[a:b].max()) if b > a else float("nan")
