"""What was passed on during a live session, as a Log: an opening, batches of rows, and the driver's marks."""

from __future__ import annotations

from collections.abc import Iterable
from types import MappingProxyType

import numpy as np
from pydantic_core import from_json

from uchiwa.core.errors import BadInput
from uchiwa.core.live.batch import read_batch
from uchiwa.core.live.clock import SteadyClock
from uchiwa.core.live.opening import FORMAT, Opening
from uchiwa.core.logs.log import BoolArray, Channel, FloatArray, Log, Raster, Repair
from uchiwa.core.words.sentence import N_

_SLOW = 0.9
_FEWEST = 2
MARKER = "Marker"


def is_live(data: bytes) -> bool:
    """Whether a text is a live session's, by its first line."""
    head = data[:200].lstrip()
    return head.startswith(b"{") and FORMAT.encode() in head


class SessionReader:
    """Reads a session line by line, as it comes or out of its file; what was read is not read again.

    Args:
        opening: its first line.

    Raises:
        BadInput: it does not begin as a live session does.
    """

    def __init__(self, opening: bytes) -> None:
        self.opening = Opening.loads(opening)
        self._clock = SteadyClock()
        self._times: list[FloatArray] = []
        self._values: list[FloatArray] = []
        self._marks: list[float] = []
        self._rows = self._batches = self._broken = self._last = 0

    def add(self, lines: Iterable[bytes]) -> None:
        """Take the next lines: batches, those that are known already and those that cannot be read left out, and marks."""
        for line in lines:
            if not line.strip():
                continue
            if line.startswith(b'{"marks"'):
                self._marks += _marks(line)
                continue
            try:
                batch = read_batch(line, len(self.opening.channels))
            except BadInput:
                self._broken += 1
                continue
            if batch.number > self._last:
                self._last = batch.number
                self._take(batch.rows)

    def _take(self, rows: FloatArray) -> None:
        times, kept = self._clock.take(rows[:, 0])
        self._times.append(times)
        self._values.append(rows[kept, 1:])
        self._rows += rows.shape[0]
        self._batches += 1

    def log(self, name: str) -> Log:
        """What has come, as a log.

        Channels that have a reading on fewer than nine rows of ten stand on a time base of their own: those rows.

        Raises:
            BadInput: fewer than two rows came.
        """
        if self._rows < _FEWEST:
            raise BadInput(
                N_("fewer than two rows came"), where=name, advice=N_("record again, for half a minute at least")
            )
        self._times, self._values = [np.concatenate(self._times)], [np.concatenate(self._values)]
        (time,), (values,) = self._times, self._values
        if time.size < _FEWEST:
            raise BadInput(
                N_("its times do not advance"), where=name, advice=N_("check the program’s clock, and record again")
            )
        notes = {"revision": self.opening.mark} if self.opening.mark else {}
        repairs = _repairs(self._clock, self._broken, self._batches)
        return Log(name, _rasters(self.opening, time, values, self._marks), MappingProxyType(notes), repairs)


def read_live(data: bytes, name: str) -> list[Log]:
    """Read what was passed on.

    Raises:
        BadInput: it does not begin as a live session does, or holds fewer than two rows.
    """
    opening, *lines = data.split(b"\n")
    reader = SessionReader(opening)
    reader.add(lines)
    return [reader.log(name)]


def _marks(line: bytes) -> list[float]:
    try:
        found = from_json(line)["marks"]
        return [float(one) for one in found if isinstance(one, (int, float))]
    except (ValueError, KeyError, TypeError):
        return []


def _rasters(opening: Opening, time: FloatArray, values: FloatArray, marks: list[float]) -> tuple[Raster, ...]:
    known = np.isfinite(values)
    slow: dict[bytes, list[int]] = {}
    quick: list[int] = []
    for number in range(len(opening.channels)):
        here = known[:, number]
        if _FEWEST <= here.sum() < _SLOW * time.size:
            slow.setdefault(np.packbits(here).tobytes(), []).append(number)
        else:
            quick.append(number)
    every = np.ones(time.size, dtype=np.bool_)
    first = [_channel(opening, number, values, every) for number in quick]
    if marks:
        first.append(Channel(MARKER, "", _pulses(time, marks)))
    rasters = [Raster(time, tuple(first))] if first else []
    for numbers in slow.values():
        rows = known[:, numbers[0]]
        rasters.append(Raster(time[rows], tuple(_channel(opening, number, values, rows) for number in numbers)))
    return tuple(rasters)


def _channel(opening: Opening, number: int, values: FloatArray, rows: BoolArray) -> Channel:
    told = opening.channels[number]
    return Channel(told.name, told.unit, np.ascontiguousarray(values[rows, number]), source_unit=told.unit)


def _pulses(time: FloatArray, marks: list[float]) -> FloatArray:
    """1 on the row nearest to each mark, else 0."""
    found = np.zeros(time.size)
    after = np.clip(np.searchsorted(time, marks), 1, time.size - 1)
    nearer = after - (np.asarray(marks) - time[after - 1] < time[after] - np.asarray(marks))
    found[nearer] = 1.0
    return found


def _repairs(clock: SteadyClock, broken: int, batches: int) -> tuple[Repair, ...]:
    found: list[Repair] = []
    if clock.jumps:
        said = f"the clock was set {len(clock.jumps)} times while recording: what followed was laid on from there"
        found.append(Repair("time", len(clock.jumps), said, tuple(clock.jumps[:20])))
    if clock.dropped:
        found.append(Repair("time", clock.dropped, f"{clock.dropped} rows whose time does not advance were left out"))
    if broken:
        found.append(Repair("ragged", broken, f"{broken} of {batches + broken} batches could not be read"))
    return tuple(found)
