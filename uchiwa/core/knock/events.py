"""Knock events: each moment at which the controller, its sensor or the driver said knock."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

import numpy as np

from uchiwa.core.knock.retard import LEARNED, RETARDS, cylinder_of, degrees_out, includes_learned
from uchiwa.core.logs.log import BoolArray, FloatArray, Log

RISE = 0.4
"""Degrees by which retard must rise for an event, at once or little by little."""
APART_S = 0.25
"""Signs closer than this belong to one event."""
FOLLOWS_S = 0.3
"""Seconds after an event whose retard is its own."""
_NEAR_S = 0.15
SIGNS = (*RETARDS, "knock_count", "knock_level", "knock_limit", "marker")
"""Quantities from which events are told."""


class Sign(StrEnum):
    """What an event was told from."""

    RETARD = "retard"
    COUNT = "count"
    LEVEL = "level"
    MARK = "mark"
    LEARNED = "learned"


@dataclass(frozen=True)
class Event:
    """One event.

    Attributes:
        at: s in the log.
        sign: what told it.
        retard: the most retard of any cylinder within the third of a second after it, and what the controller had learned
            to hold back, degrees; 0 if retard was not recorded. What comes later lies in another cell, or is an event of
            its own.
        level: the sensor's level, as a multiple of its limit; NaN if not recorded.
        measured: whether the log records retard, so that `retard` is what the controller took out.
        learned: degrees of it that the controller had learned.
        cylinder: that the most retard is of, where it is recorded by cylinder; else 0.
    """

    at: float
    sign: Sign
    retard: float
    level: float
    measured: bool = True
    learned: float = 0.0
    cylinder: int = 0


class Trace(NamedTuple):
    """A channel on its own time base: s, rising, and readings, both finite and of shape (n,)."""

    time: FloatArray
    values: FloatArray


def trace(time: FloatArray, values: FloatArray) -> Trace:
    """A channel's finite samples."""
    finite = np.isfinite(values)
    return Trace(time[finite], values[finite])


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
    return events_of({sign: trace(time, signals[sign]) for sign in SIGNS if sign in signals})


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

    Retard that rises, a count that grows, a level above its limit, the driver's mark, and a learned retard that the engine
    comes into are signs; of signs within a quarter of a second the first tells what the event is, but what is only learned
    gives way to what is heard. Each cylinder's retard is looked at by itself.
    """
    count, marker = (traces.get(one) for one in ("knock_count", "marker"))
    held = _Held.of(traces)
    begun = [(at, Sign.RETARD) for one in held.momentary.values() for at in _moments(one)]
    begun += [(at, Sign.LEARNED) for at in _moments(held.learned)]
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
            if sign is Sign.LEARNED or events[-1].sign is not Sign.LEARNED:
                continue
            events.pop()  # what is heard goes before what the engine only came into
        heard = _highest(ratio, at - _NEAR_S, at + _NEAR_S) if ratio is not None else float("nan")
        total, learned, cylinder = held.at(at)
        events.append(Event(at, sign, total, heard, held.measured, learned, cylinder))
    return events


def _moments(of: Trace | None) -> list[float]:
    """When retard has risen."""
    return [] if of is None else [float(of.time[at]) for at in _rises(of.values)]


@dataclass(frozen=True)
class _Held:
    """Retard on the time bases of its channels.

    Attributes:
        momentary: by cylinder, 0 for all of them.
        learned: what the controller has learned; None if that is not recorded.
        included: whether what it has learned is in the momentary retard.
    """

    momentary: dict[int, Trace]
    learned: Trace | None
    included: bool

    @classmethod
    def of(cls, traces: Mapping[str, Trace]) -> _Held:
        out = {
            retard: Trace(traces[retard].time, degrees_out(traces[retard].values, retard))
            for retard in RETARDS
            if retard in traces and traces[retard].time.size
        }
        learned = out.pop(LEARNED, None)
        momentary = {cylinder_of(one): told for one, told in out.items()}
        included = learned is not None and any(
            includes_learned(one.values, _before(learned, one.time)) for one in momentary.values()
        )
        return cls(momentary, learned, included)

    @property
    def measured(self) -> bool:
        """Whether any retard is recorded."""
        return bool(self.momentary) or self.learned is not None

    def at(self, moment: float) -> tuple[float, float, int]:
        """Of an event: the most retard, how much of it was learned, and the cylinder with the most."""
        told = {
            cylinder: float(np.nan_to_num(_highest(one, moment, moment + FOLLOWS_S)))
            for cylinder, one in self.momentary.items()
        }
        worst = max(told.values(), default=0.0)
        cylinder = max((one for one in told if one and told[one] >= worst > 0.0), default=0)
        if self.learned is None:
            return worst, 0.0, cylinder
        since = float(_before(self.learned, np.array([moment]))[0])
        learned = float(
            np.fmax(np.nan_to_num(since), np.nan_to_num(_highest(self.learned, moment, moment + FOLLOWS_S)))
        )
        return (max(worst, learned) if self.included else worst + learned), learned, cylinder


def _before(of: Trace, moments: FloatArray) -> FloatArray:
    """The last reading before each moment; NaN where there is none."""
    place = np.searchsorted(of.time, moments + 1e-9) - 1
    return np.where(place >= 0, of.values[np.maximum(place, 0)], np.nan)


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
