"""A log that grows: rows as they came, and the same in canonical units as far as the channels are recognised."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.live.batch import Batch
from uchiwa.core.live.clock import SteadyClock
from uchiwa.core.live.opening import Opening
from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.logs.recognition.knowledge import NOTHING_KNOWN, Knowledge
from uchiwa.core.logs.recognition.recognise import recognise
from uchiwa.core.logs.timebase import GAP_S, STATES, bridgeable, own_period
from uchiwa.core.quantities.catalogue import QUANTITIES

_FIRST_ROWS = 256
LOOK_AGAIN_S = (1.0, 5.0, 30.0, 180.0, 900.0)
"""After so many seconds of recording the channels are looked at anew: by then they have moved."""
_LOOKED_AT = 20_000
_LAST_ROWS = 400
"""Among so many rows the last reading of a state is looked for."""
FREE = ":"


@dataclass(frozen=True)
class LiveReading:
    """How a channel is read while it is recorded: `value = scale · reading + offset`.

    Attributes:
        key: quantity id, or `:` and the logger's own name.
        title, unit: as shown.
        quantity: id, or None.
        doubt: what does not fit; empty if nothing.
    """

    key: str
    title: str
    unit: str
    quantity: str | None
    scale: float = 1.0
    offset: float = 0.0
    doubt: str = ""


class Growth:
    """Rows that have come so far.

    The channels' meaning is found from what came within the first second, and again a few times as more comes; the log that
    the session becomes is recognised from the whole of it.

    Args:
        opening: how the session began.
        knowledge: what is known of the car.
    """

    def __init__(
        self, opening: Opening, knowledge: Knowledge | Callable[[Log], Knowledge] = NOTHING_KNOWN, name: str = "live"
    ) -> None:
        self.opening, self.knowledge, self.name = opening, knowledge, name
        self.clock = SteadyClock()
        self.batch = 0
        self.reading_number = 0
        self.readings: tuple[LiveReading, ...] = tuple(
            LiveReading(FREE + channel.name, channel.name, channel.unit, None) for channel in opening.channels
        )
        self.problem = ""
        width = len(opening.channels)
        self._time = np.empty(_FIRST_ROWS)
        self._raw = np.empty((width, _FIRST_ROWS))
        self._values = np.empty((width, _FIRST_ROWS))
        self._number = {reading.key: place for place, reading in enumerate(self.readings)}
        self._scale, self._offset = np.ones((width, 1)), np.zeros((width, 1))
        self._bridged = np.full(width, bridgeable(0.0))
        self.size = 0
        self._looks = list(LOOK_AGAIN_S)

    @property
    def time(self) -> FloatArray:
        """Seconds since the first row; shape (n,)."""
        return self._time[: self.size]

    @property
    def seconds(self) -> float:
        """How long it is."""
        return float(self._time[self.size - 1]) if self.size else 0.0

    def values(self, key: str) -> FloatArray | None:
        """A channel in canonical units, NaN where nothing was read; shape (n,). None if there is no such channel."""
        place = self._number.get(key)
        return None if place is None else self._values[place, : self.size]

    def block(self, keys: Sequence[str], first: int, last: int) -> FloatArray:
        """Rows of several channels that there are, in canonical units; shape (keys, last − first)."""
        return self._values[[self._number[key] for key in keys], first:last]

    def held(self, key: str, first: int) -> FloatArray:
        """Readings of a channel that there is, from a row on, the last before them too carried on; shape (n,).

        A reading is carried on for three of the channel's own periods or half a second, as in a log that is finished; a
        state's until the next.
        """
        place, states = self._number[key], key in STATES
        values = self._values[place, : self.size]
        if np.isfinite(values[first:]).all():
            return values[first:]
        longest = float(self._bridged[place])
        back = first - _LAST_ROWS if states else int(np.searchsorted(self.time, self._time[first] - longest))
        back = min(max(back, 0), first)
        return held_through(self.time[back:], values[back:], longest, states=states)[first - back :]

    def __contains__(self, key: object) -> bool:
        return key in self._number

    def add(self, *batches: Batch) -> None:
        """Take the next batches; those that are known already do nothing."""
        new: list[FloatArray] = []
        for batch in batches:
            if batch.number > self.batch:
                self.batch = batch.number
                new.append(batch.rows)
        if not new:
            return
        rows = new[0] if len(new) == 1 else np.concatenate(new)
        times, kept = self.clock.take(rows[:, 0])
        first, last = self.size, self.size + times.size
        self._make_room(last)
        raw = rows[kept, 1:].T
        self._time[first:last], self._raw[:, first:last] = times, raw
        self._values[:, first:last] = raw * self._scale + self._offset
        self.size = last
        if self._looks and self.seconds >= self._looks[0]:
            while self._looks and self.seconds >= self._looks[0]:
                self._looks.pop(0)
            self.look()

    def _make_room(self, rows: int) -> None:
        if rows <= self._time.size:
            return
        more = max(rows, 2 * self._time.size)
        time = np.empty(more)
        time[: self.size] = self.time
        raw, values = np.empty((self._raw.shape[0], more)), np.empty((self._raw.shape[0], more))
        raw[:, : self.size], values[:, : self.size] = self._raw[:, : self.size], self._values[:, : self.size]
        self._time, self._raw, self._values = time, raw, values

    def look(self) -> None:
        """Find out what the channels are, from the last rows that came."""
        if self.size < 2:
            return
        first = max(0, self.size - _LOOKED_AT)
        read = np.isfinite(self._raw[:, first : self.size])
        self._bridged = np.array([bridgeable(own_period(self.time[first:][rows])) for rows in read])
        channels = tuple(
            Channel(channel.name, channel.unit, self._raw[place, first : self.size].copy(), source_unit=channel.unit)
            for place, channel in enumerate(self.opening.channels)
        )
        log = Log(self.name, (Raster(self.time[first:] - self.time[first], channels),))
        try:
            known = recognise(log, self.knowledge(log) if callable(self.knowledge) else self.knowledge)
        except BadInput as error:
            self.problem = f"{error.what}; {error.advice}."
            return
        self.problem = ""
        found = tuple(
            _reading(channel, raw.values) for channel, raw in zip(known.rasters[0].channels, channels, strict=False)
        )
        if found == self.readings:
            return
        self.readings = found
        self._scale = np.array([reading.scale for reading in found])[:, None]
        self._offset = np.array([reading.offset for reading in found])[:, None]
        self.reading_number += 1
        self._number = {}
        for place, reading in enumerate(found):
            self._number.setdefault(reading.key, place)
            self._values[place, : self.size] = self._raw[place, : self.size] * reading.scale + reading.offset

    def tail(self, first: int, quantities: tuple[str, ...]) -> dict[str, FloatArray]:
        """Quantities that there are, from a row on; see `held`."""
        return {key: self.held(key, first) for key in quantities if key in self}

    def latest(self, key: str) -> float | None:
        """A channel's last reading, unless it is older than is carried on, or a second; a state's may be of any age."""
        values = self.values(key)
        if values is None or not self.size:
            return None
        last = float(values[-1])
        if math.isfinite(last):
            return last
        if key in STATES:
            first = max(0, self.size - _LAST_ROWS)
        else:
            longest = max(2 * GAP_S, float(self._bridged[self._number[key]]))
            first = int(np.searchsorted(self.time, self.seconds - longest))
        known = values[first:][np.isfinite(values[first:])]
        return float(known[-1]) if known.size else None


def held_through(time: FloatArray, values: FloatArray, longest: float = GAP_S, *, states: bool = False) -> FloatArray:
    """A channel with its last reading held for so many seconds, a state's until the next."""
    known = np.isfinite(values)
    if known.all() or not known.any():
        return values
    at = np.maximum.accumulate(np.where(known, np.arange(values.size), -1))
    carried = np.where(at >= 0, values[np.maximum(at, 0)], np.nan)
    if states:
        return carried
    return np.where((at >= 0) & (time - time[np.maximum(at, 0)] <= longest), carried, np.nan)


def _reading(channel: Channel, raw: FloatArray) -> LiveReading:
    """How a recognised channel follows from what came: by the two readings that lie furthest apart."""
    if channel.quantity is None:
        return LiveReading(FREE + channel.name, channel.name, channel.source_unit, None)
    known = QUANTITIES[channel.quantity]
    pairs = np.isfinite(raw) & np.isfinite(channel.values)
    scale, offset = 1.0, 0.0
    if pairs.any():
        told, meant = raw[pairs], channel.values[pairs]
        low, high = int(told.argmin()), int(told.argmax())
        if told[high] > told[low]:
            scale = float((meant[high] - meant[low]) / (told[high] - told[low]))
            offset = float(meant[low] - scale * told[low])
        elif told[low]:
            scale = float(meant[low] / told[low])
        else:
            offset = float(meant[low])
    return LiveReading(known.id, known.title, known.unit, known.id, scale, offset, channel.doubt)
