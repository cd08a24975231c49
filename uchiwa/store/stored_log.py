"""A stored log opened for reading: its channels as sources of which only the parts that are asked for are fetched."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.viewing.pyramid import BlockSums, Level
from uchiwa.core.viewing.window import block_for, roughly
from uchiwa.store import levels, samples
from uchiwa.store.conflict import BeingReadError
from uchiwa.store.database import database
from uchiwa.store.models import ChannelChunk, ChannelLevel, LogFile
from uchiwa.store.remembered import Remembered

_remembered: Remembered[FloatArray | Level | BlockSums] = Remembered(64_000_000)
_FREE = ":"


def forget() -> None:
    """Drop all parts that are remembered, so that the next view comes from the database; for measurements."""
    _remembered.clear()


@dataclass(frozen=True)
class StoredSignal:
    """A channel as a `Source`.

    Attributes:
        id: of its row.
        raster: number of its time base.
        name: as the logger wrote it.
        unit: of its values.
        quantity: id of what it measures, or None.
        size: number of samples.
        extent: lowest and highest reading; NaN without any.
        mean: of all readings; None without any.
        blocks: samples to a block of each level of its pyramid.
    """

    id: int
    raster: int
    name: str
    unit: str
    quantity: str | None
    size: int
    extent: tuple[float, float]
    mean: float | None
    blocks: tuple[int, ...]

    def level(self, block: int) -> Level:
        """The level with blocks of so many samples."""
        return fetch_levels([(self, block)])[self.id, block]

    def sums(self, block: int) -> BlockSums:
        """The sums of that level."""
        key = ("sums", self.id, block)
        found = _remembered.get(key)
        if not isinstance(found, BlockSums):
            row = ChannelLevel.get_or_none(ChannelLevel.channel == self.id, ChannelLevel.block == block)
            if row is None:
                raise BeingReadError
            found = levels.unpack_sums(bytes(row.sums), row.blocks)
            _remembered.put(key, found, 16 * row.blocks)
        return found

    def samples(self, first: int, last: int) -> FloatArray:
        """Samples first … last − 1."""
        first, last = max(first, 0), min(last, self.size)
        if last <= first:
            return np.empty(0)
        found = fetch_chunks([self], first, last)
        positions = chunks_of(first, last)
        if any((self.id, position) not in found for position in positions):
            raise BeingReadError
        parts = [found[self.id, position] for position in positions]
        whole = parts[0] if len(parts) == 1 else np.concatenate(parts)
        offset = positions[0] * samples.CHUNK
        return whole[first - offset : last - offset]


def chunks_of(first: int, last: int) -> range:
    """The chunks that hold samples first … last − 1."""
    return range(first // samples.CHUNK, (last - 1) // samples.CHUNK + 1)


def fetch_levels(wanted: Iterable[tuple[StoredSignal, int]]) -> dict[tuple[int, int], Level]:
    """Levels by channel and block, in one query for those that are not remembered."""
    found: dict[tuple[int, int], Level] = {}
    missing: list[tuple[int, int]] = []
    for signal, block in wanted:
        known = _remembered.get(("level", signal.id, block))
        if isinstance(known, Level):
            found[signal.id, block] = known
        else:
            missing.append((signal.id, block))
    if missing:
        pairs = ", ".join(["(%s, %s)"] * len(missing))
        flat = [value for pair in missing for value in pair]
        for channel, block, blocks, data in database.execute_sql(f"{_LEVELS}({pairs})", flat).fetchall():
            level = levels.unpack_level(bytes(data), block, blocks)
            found[channel, block] = level
            _remembered.put(("level", channel, block), level, 16 * blocks)
        if any(pair not in found for pair in missing):
            raise BeingReadError
    return found


def fetch_chunks(signals: Iterable[StoredSignal], first: int, last: int) -> dict[tuple[int, int], FloatArray]:
    """The chunks of some channels that hold samples first … last − 1, in one query for those not remembered."""
    found: dict[tuple[int, int], FloatArray] = {}
    missing: list[int] = []
    positions = chunks_of(first, last)
    for signal in signals:
        known = {position: _remembered.get(("chunk", signal.id, position)) for position in positions}
        found |= {(signal.id, position): part for position, part in known.items() if isinstance(part, np.ndarray)}
        if any(part is None for part in known.values()):
            missing.append(signal.id)
    if missing:
        query = ChannelChunk.select(
            ChannelChunk.channel, ChannelChunk.position, ChannelChunk.samples, ChannelChunk.data
        ).where(ChannelChunk.channel.in_(missing), ChannelChunk.position.in_(list(positions)))
        for channel, position, size, data in query.tuples().iterator():
            part = samples.unpack(bytes(data), size)
            found[channel, position] = part
            _remembered.put(("chunk", channel, position), part, part.nbytes)
    return found


class StoredLog:
    """A log's channels by key: a quantity's id, or `:` and the logger's own name where the quantity is not known.

    Args:
        log: ready; its pyramids are built first if they are not there.
        keys: of the only channels that matter, besides engine speed; None for all.
    """

    def __init__(self, log: LogFile, keys: Collection[str] | None = None) -> None:
        self.log = log
        found = _signals_of(log, keys)
        if found is None:
            levels.build(log)
            found = _signals_of(log, keys) or []
        if not found:
            raise BeingReadError
        self.times: dict[int, StoredSignal] = {}
        self.signals: dict[str, StoredSignal] = {}
        for signal in found:
            if signal.quantity == samples.TIME:
                self.times[signal.raster] = signal
            else:
                self.signals.setdefault(signal.quantity or _FREE + signal.name, signal)

    @property
    def version(self) -> int:
        """A number that changes whenever the log is imported anew."""
        return min((time.id for time in self.times.values()), default=0)

    @property
    def main_time(self) -> StoredSignal:
        """The time base of engine speed, or else the first."""
        speed = self.signals.get("engine_speed")
        return self.times[speed.raster] if speed is not None else next(iter(self.times.values()))

    @property
    def start(self) -> float:
        """First moment of the log, s."""
        return min((time.extent[0] for time in self.times.values()), default=0.0)

    @property
    def end(self) -> float:
        """Last moment of the log, s."""
        return max((time.extent[1] for time in self.times.values()), default=0.0)

    def time_of(self, key: str) -> StoredSignal:
        """The time base of a channel."""
        return self.times[self.signals[key].raster]

    def fetch(self, keys: Sequence[str], start: float, end: float, points: int) -> None:
        """Fetch what drawing these channels from start to end takes, in two queries for any number of them."""
        by_raster: dict[int, list[StoredSignal]] = {}
        for key in keys:
            by_raster.setdefault(self.signals[key].raster, []).append(self.signals[key])
        wanted: list[tuple[StoredSignal, int]] = []
        for raster, signals in by_raster.items():
            time = self.times[raster]
            first, last = roughly(time, start, end)
            block = block_for(last - first, time.blocks, points)
            if block is not None:
                wanted += [(signal, block) for signal in (time, *signals)]
            elif last > first:
                fetch_chunks((time, *signals), first, last)
        if wanted:
            fetch_levels(wanted)


_CHANNELS = "SELECT id, raster, name, unit, quantity, samples, minimum, maximum, mean, levels FROM log_channel WHERE log_id = %s"
_LEVELS = "SELECT channel_id, block, blocks, extremes FROM channel_level WHERE (channel_id, block) IN "


def _marks(count: int) -> str:
    return ", ".join(["%s"] * count)


def _signals_of(log: LogFile, keys: Collection[str] | None) -> list[StoredSignal] | None:
    """The channels of a log; None if the pyramid of one of them is still to be built.

    Written as SQL: building the statement would take longer than answering it.
    """
    statement = _CHANNELS
    values: list[int | str] = [log.id]
    if keys is not None:
        known = [samples.TIME, "engine_speed", *(key for key in keys if not key.startswith(_FREE))]
        free = [key.removeprefix(_FREE) for key in keys if key.startswith(_FREE)]
        statement += f" AND (quantity IN ({_marks(len(known))})"
        statement += f" OR name IN ({_marks(len(free))}))" if free else ")"
        values += [*known, *free]
    signals: list[StoredSignal] = []
    for row in database.execute_sql(statement + " ORDER BY raster, position", values).fetchall():
        number, raster, name, unit, quantity, size, low, high, mean, kept = row
        if kept is None:
            return None
        extent = (math.nan, math.nan) if low is None or high is None else (low, high)
        blocks = tuple(int(word) for word in kept.split(",") if word)
        signals.append(StoredSignal(number, raster, name, unit, quantity, size, extent, mean, blocks))
    return signals
