"""Samples by column: a row per channel chunk, compressed, so that a view reads only the channels it draws."""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor
from itertools import islice
from threading import local
from types import MappingProxyType
from typing import Any, TypeAlias

import numpy as np
import zstandard
from numpy.typing import NDArray

from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.store.conflict import BeingReadError
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.log_names import told_apart
from uchiwa.store.models import ChannelChunk, LogChannel, LogFile, blob
from uchiwa.store.rows import rows

CHUNK = 65536
TIME = "time"
_ROWS_A_STATEMENT = 8
_FLOATS = 255
_ZSTD_MARK = 0x28  # the first byte of chunks from before there was a leading byte
_MOST_DIGITS = 4
_LARGEST = 1e9
_PACKERS = 2
_TOGETHER = 4
IntArray32: TypeAlias = NDArray[np.int32]


def pack(values: FloatArray) -> bytes:
    """Values as bytes: decimals of up to four digits as whole numbers, others as they are, regrouped by significance.

    Loggers write decimals, so that most chunks come to a third of what plain floats take, and are packed in half the
    time. A leading byte tells the digits, or that there are none.
    """
    found = _decimals(values)
    if found is None:
        digits, plain = _FLOATS, np.ascontiguousarray(values, dtype="<f8")
    else:
        digits, whole = found
        plain = np.diff(whole, prepend=np.int32(0)).astype("<i4")
    width = plain.dtype.itemsize
    planes = np.ascontiguousarray(plain.view(np.uint8).reshape(-1, width).T)
    return bytes([digits]) + zstandard.ZstdCompressor(level=1).compress(planes.data)


def _decimals(values: FloatArray) -> tuple[int, IntArray32] | None:
    """Digits after the point and the values as whole numbers of that unit, if that gives them back bit for bit."""
    if not values.size or not np.isfinite(values).all() or np.signbit(values[values == 0.0]).any():
        return None
    head = values[:: max(1, values.size // 64)]
    for digits in range(_MOST_DIGITS + 1):
        scale = 10.0**digits
        if np.abs(head).max() < _LARGEST / scale and (np.rint(head * scale) / scale == head).all():
            if not np.abs(values).max() < _LARGEST / scale:
                return None
            whole = np.rint(values * scale)
            if (whole / scale == values).all():
                return digits, whole.astype(np.int32)
    return None


class _PerThread(local):
    """A decompressor for each thread: making one takes as long as unpacking a small part."""

    def __init__(self) -> None:
        self.decompressor = zstandard.ZstdDecompressor()


_mine = _PerThread()


def decompress(packed: bytes | memoryview, size: int) -> bytes:
    """What was compressed, at most so many bytes."""
    return _mine.decompressor.decompress(packed, max_output_size=size)


def unpack(data: bytes, samples: int) -> FloatArray:
    """What `pack` packed, bit for bit."""
    digits = data[0]
    width = 8 if digits in (_FLOATS, _ZSTD_MARK) else 4
    packed = data if digits == _ZSTD_MARK else memoryview(data)[1:]
    raw = decompress(packed, samples * width)
    planes = np.ascontiguousarray(np.frombuffer(raw, dtype=np.uint8).reshape(width, samples).T)
    if width == 8:
        return planes.view("<f8").reshape(samples)
    return np.cumsum(planes.view("<i4").reshape(samples), dtype=np.int32) / 10.0**digits


def _extremes(values: FloatArray) -> tuple[float | None, float | None]:
    low, high = np.fmin.reduce(values, initial=np.nan), np.fmax.reduce(values, initial=np.nan)
    return (None, None) if np.isnan(low) else (float(low), float(high))


def _packed_chunks(values: FloatArray) -> list[dict[str, object]]:
    chunks: list[dict[str, object]] = []
    for number in range(math.ceil(values.size / CHUNK)):
        part = values[number * CHUNK : (number + 1) * CHUNK]
        low, high = _extremes(part)
        chunks.append(
            {"position": number, "samples": part.size, "minimum": low, "maximum": high, "data": blob(pack(part))}
        )
    return chunks


def _row_of(log: LogFile, raster: int, position: int, channel: Channel) -> dict[str, object]:
    low, high = _extremes(channel.values)
    return {
        "log": log,
        "raster": raster,
        "position": position,
        "name": channel.name[:190],
        "unit": channel.unit[:32],
        "source_unit": channel.source_unit[:32],
        "quantity": channel.quantity,
        "reason": channel.reason[:400],
        "confidence": channel.confidence,
        "doubt": channel.doubt[:300],
        "read_as": channel.read_as[:40],
        "second": channel.second[:40],
        "samples": channel.values.size,
        "minimum": low,
        "maximum": high,
    }


def write(
    log: LogFile,
    recording: Log,
    tell: Callable[[float], None] = lambda _: None,
    hold: Callable[[], None] = lambda: None,
) -> None:
    """Keep a recording's samples, in place of any that were there: a few channels to a transaction.

    Args:
        log: not shown to anybody until its state says so.
        recording: with canonical units.
        tell: called after each transaction with the share that is done.
        hold: called at the beginning of each transaction; raises if the log may not be written to any more.
    """
    _drop_channels(log, hold)
    wanted = [
        (number, position, channel)
        for number, raster in enumerate(recording.rasters)
        for position, channel in enumerate(
            (Channel("Time", "s", raster.time, TIME, "s", "the raster's time base"), *raster.channels)
        )
    ]
    with ThreadPoolExecutor(_PACKERS) as pool:
        packed = pool.map(_packed_chunks, (channel.values for _, _, channel in wanted))
        pairs = zip(wanted, packed, strict=True)
        for first in range(0, len(wanted), _TOGETHER):
            _keep_channels(log, list(islice(pairs, _TOGETHER)), hold)
            tell(min(1.0, (first + _TOGETHER) / len(wanted)))


_Packed = tuple[tuple[int, int, Channel], list[dict[str, object]]]


@run_again
def _drop_channels(log: LogFile, hold: Callable[[], None]) -> None:
    with unit_of_work():
        hold()
        LogChannel.delete().where(LogChannel.log == log).execute()


@run_again
def _keep_channels(log: LogFile, packed: list[_Packed], hold: Callable[[], None]) -> None:
    with unit_of_work():
        hold()
        LogChannel.insert_many([_row_of(log, *channel) for channel, _ in packed]).execute()
        newest = LogChannel.select(LogChannel.id, LogChannel.raster, LogChannel.position).where(LogChannel.log == log)
        ids = {(raster, position): number for number, raster, position in rows(newest)}
        parts = [
            part | {"channel": ids[raster, position]} for (raster, position, _), chunks in packed for part in chunks
        ]
        for first in range(0, len(parts), _ROWS_A_STATEMENT):
            ChannelChunk.insert_many(parts[first : first + _ROWS_A_STATEMENT]).execute()


def read(logs: Collection[LogFile], quantities: Collection[str]) -> list[Log]:
    """Recordings with only the channels of some quantities, in two queries for any number of logs; their names differ."""
    if not logs:
        return []
    ids = [log.id for log in logs]
    return _read(logs, LogChannel.log.in_(ids) & LogChannel.quantity.in_([TIME, *quantities]))


def read_whole(log: LogFile) -> Log:
    """A recording with all of its channels, recognised or not, and its notes."""
    found = _read([log], LogChannel.log == log.id)[0]
    return Log(found.name, found.rasters, MappingProxyType(json.loads(log.notes)))


def _read(logs: Collection[LogFile], wanted: Any) -> list[Log]:
    channels = list(LogChannel.select().where(wanted).order_by(LogChannel.log, LogChannel.raster, LogChannel.position))
    values = values_of([channel.id for channel in channels])
    return [
        _recording(name, [channel for channel in channels if channel.log_id == log.id], values)
        for log, name in zip(logs, told_apart(logs), strict=True)
    ]


def values_of(channel_ids: Collection[int]) -> dict[int, FloatArray]:
    """The whole of some channels by id, in one query."""
    parts: dict[int, list[FloatArray]] = {id_: [] for id_ in channel_ids}
    if parts:
        chunks = (
            ChannelChunk.select()
            .where(ChannelChunk.channel.in_(list(parts)))
            .order_by(ChannelChunk.channel, ChannelChunk.position)
        )
        for chunk in chunks.iterator():
            parts[chunk.channel_id].append(unpack(bytes(chunk.data), chunk.samples))
    return {one: np.concatenate(found) if found else np.empty(0) for one, found in parts.items()}


def _recording(name: str, channels: list[LogChannel], values: dict[int, FloatArray]) -> Log:
    if not channels or any(values[channel.id].size != channel.samples for channel in channels):
        raise BeingReadError
    rasters: list[Raster] = []
    for number in sorted({channel.raster for channel in channels}):
        here = [channel for channel in channels if channel.raster == number]
        time = next(values[channel.id] for channel in here if channel.quantity == TIME)
        rasters.append(
            Raster(
                time,
                tuple(
                    Channel(
                        channel.name,
                        channel.unit,
                        values[channel.id],
                        channel.quantity,
                        channel.source_unit,
                        channel.reason,
                        channel.confidence,
                        channel.doubt,
                        channel.read_as,
                        channel.second,
                    )
                    for channel in here
                    if channel.quantity != TIME
                ),
            )
        )
    return Log(name, tuple(rasters), MappingProxyType({}))
