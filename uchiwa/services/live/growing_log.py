"""A log that is being recorded, opened for reading as a stored one is: as far as it has come."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

import numpy as np

from uchiwa.core.live.growth import Growth
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.viewing.pyramid import InMemory
from uchiwa.services.live import growing
from uchiwa.store import live_sessions
from uchiwa.store.conflict import BeingReadError
from uchiwa.store.models import LogFile

TIME = "time"
_SLOW = 0.9


class ChannelName(NamedTuple):
    """What a channel is called, its unit, and the id of what it measures, or None."""

    name: str
    unit: str
    quantity: str | None


_TIME = ChannelName(TIME, "s", TIME)


class GrowingSignal(InMemory):
    """A channel as far as it has come.

    Attributes:
        id: names it and how far it has come.
        raster: number of its time base.
        name: as the logger calls it.
        unit: of its values.
        quantity: id of what it measures, or None.
        mean: of all readings; None without any.
    """

    def __init__(self, place: tuple[object, ...], raster: int, what: ChannelName, values: FloatArray) -> None:
        super().__init__(values)
        self.id = place
        self.raster = raster
        self.name, self.unit, self.quantity = what
        known = values[np.isfinite(values)]
        self.mean = float(known.mean()) if known.size else None


class GrowingLog:
    """What a session has recorded so far, as `StoredLog` shows a log that is finished."""

    def __init__(self, log: LogFile, growth: Growth) -> None:
        self.log = log
        size = growth.size
        if size < 2:
            raise BeingReadError
        self._place = (log.id, size)
        time = growth.time[:size]
        self.times = {0: self._signal(0, _TIME, time)}
        self.signals: dict[str, GrowingSignal] = {}
        for number, reading in enumerate(growth.readings, start=1):
            values = growth.values(reading.key)
            if values is None or reading.key in self.signals:
                continue
            values = values[:size]
            known = np.isfinite(values)
            raster = 0
            if 2 <= known.sum() < _SLOW * size:
                raster, values = number, values[known]
                self.times[raster] = self._signal(raster, _TIME, time[known])
            self.signals[reading.key] = self._signal(
                raster, ChannelName(reading.title, reading.unit, reading.quantity), values
            )

    def _signal(self, raster: int, what: ChannelName, values: FloatArray) -> GrowingSignal:
        return GrowingSignal((*self._place, raster, what.name), raster, what, values)

    @property
    def version(self) -> tuple[int, int]:
        """What changes whenever something has come."""
        return self._place

    @property
    def main_time(self) -> GrowingSignal:
        """The time base of engine speed, or else the first."""
        speed = self.signals.get("engine_speed")
        return self.times[speed.raster] if speed is not None else self.times[0]

    @property
    def start(self) -> float:
        """First moment, s."""
        return 0.0

    @property
    def end(self) -> float:
        """Last moment so far, s."""
        return self.times[0].extent[1]

    def time_of(self, key: str) -> GrowingSignal:
        """The time base of a channel."""
        return self.times[self.signals[key].raster]

    def fetch(self, keys: Sequence[str], start: float, end: float, points: int) -> None:
        """Nothing has to be fetched."""


def growing_log(log: LogFile) -> GrowingLog:
    """A log that is being recorded, as it stands now.

    Raises:
        BeingReadError: fewer than two rows have come.
    """
    session = live_sessions.of_logs([log.id]).get(log.id)
    if session is None:
        raise BeingReadError
    followed = growing.follow(session)
    followed.advance()
    return GrowingLog(log, followed.growth)
