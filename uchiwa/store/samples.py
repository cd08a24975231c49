"""Samples by column: a row per channel chunk, compressed, so that a view reads only the channels it draws."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable
from types import MappingProxyType

import numpy as np
import zstandard

from uchiwa.core.log import Channel, FloatArray, Log, Raster
from uchiwa.store.models import ChannelChunk, LogChannel, LogFile

CHUNK = 65536
TIME = "time"
_ROWS_A_STATEMENT = 8


def pack(values: FloatArray) -> bytes:
    """Values as bytes: regrouped by significance, which doubles what zstandard can save, then compressed."""
    planes = np.ascontiguousarray(values, dtype="<f8").view(np.uint8).reshape(-1, 8).T
    return zstandard.ZstdCompressor(level=3).compress(np.ascontiguousarray(planes).tobytes())


def unpack(data: bytes, samples: int) -> FloatArray:
    """What `pack` packed, bit for bit."""
    raw = zstandard.ZstdDecompressor().decompress(data, max_output_size=samples * 8)
    planes = np.frombuffer(raw, dtype=np.uint8).reshape(8, samples)
    return np.ascontiguousarray(planes.T).view("<f8").reshape(samples)


def _extremes(values: FloatArray) -> tuple[float | None, float | None]:
    finite = values[np.isfinite(values)]
    return (float(finite.min()), float(finite.max())) if finite.size else (None, None)


def _write_channel(log: LogFile, raster: int, position: int, channel: Channel) -> Iterable[dict[str, object]]:
    low, high = _extremes(channel.values)
    row = LogChannel.create(
        log=log,
        raster=raster,
        position=position,
        name=channel.name[:190],
        unit=channel.unit[:32],
        source_unit=channel.source_unit[:32],
        quantity=channel.quantity,
        reason=channel.reason[:255],
        samples=channel.values.size,
        minimum=low,
        maximum=high,
    )
    for number in range(math.ceil(channel.values.size / CHUNK)):
        part = channel.values[number * CHUNK : (number + 1) * CHUNK]
        low, high = _extremes(part)
        yield {
            "channel": row.id,
            "position": number,
            "samples": part.size,
            "minimum": low,
            "maximum": high,
            "data": pack(part),
        }


def write(log: LogFile, recording: Log) -> None:
    """Keep a recording's samples, in place of any that were there. Call within a transaction."""
    LogChannel.delete().where(LogChannel.log == log).execute()
    for number, raster in enumerate(recording.rasters):
        time = Channel("Time", "s", raster.time, TIME, "s", "the raster's time base")
        for position, channel in enumerate((time, *raster.channels)):
            chunks = list(_write_channel(log, number, position, channel))
            for first in range(0, len(chunks), _ROWS_A_STATEMENT):
                ChannelChunk.insert_many(chunks[first : first + _ROWS_A_STATEMENT]).execute()


def read(logs: Collection[LogFile], quantities: Collection[str]) -> list[Log]:
    """Recordings with only the channels of some quantities, in two queries for any number of logs."""
    if not logs:
        return []
    ids = [log.id for log in logs]
    channels = list(
        LogChannel.select()
        .where(LogChannel.log.in_(ids), LogChannel.quantity.in_([TIME, *quantities]))
        .order_by(LogChannel.log, LogChannel.raster, LogChannel.position)
    )
    parts: dict[int, list[FloatArray]] = {channel.id: [] for channel in channels}
    if parts:
        chunks = (
            ChannelChunk.select()
            .where(ChannelChunk.channel.in_(list(parts)))
            .order_by(ChannelChunk.channel, ChannelChunk.position)
        )
        for chunk in chunks.iterator():
            parts[chunk.channel_id].append(unpack(bytes(chunk.data), chunk.samples))
    return [_recording(log, [one for one in channels if one.log_id == log.id], parts) for log in logs]


def _recording(log: LogFile, channels: list[LogChannel], parts: dict[int, list[FloatArray]]) -> Log:
    values = {one.id: np.concatenate(parts[one.id]) if parts[one.id] else np.empty(0) for one in channels}
    rasters: list[Raster] = []
    for number in sorted({one.raster for one in channels}):
        here = [one for one in channels if one.raster == number]
        time = next(values[one.id] for one in here if one.quantity == TIME)
        rasters.append(
            Raster(
                time,
                tuple(
                    Channel(one.name, one.unit, values[one.id], one.quantity, one.source_unit, one.reason)
                    for one in here
                    if one.quantity != TIME
                ),
            )
        )
    return Log(log.name, tuple(rasters), MappingProxyType({}))
