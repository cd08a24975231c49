"""The pyramid of each channel, kept beside its samples so that a view at any zoom reads little."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import nullcontext, suppress
from typing import Any

import numpy as np
import zstandard
from peewee import Case, PeeweeException

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.viewing.pyramid import BlockSums, Level, pyramid_of
from uchiwa.store import samples
from uchiwa.store.database import database, run_again, unit_of_work
from uchiwa.store.log_states import READY
from uchiwa.store.models import ChannelLevel, LogChannel, LogFile, blob

_TOGETHER = 6
_BLOCKS_A_STATEMENT = 250_000  # some megabytes
_LOCK = "uchiwa-levels"


def pack_sums(sums: BlockSums) -> bytes:
    """Sums as bytes."""
    data = sums.total.astype("<f8").tobytes() + sums.known.astype("<i8").tobytes()
    return zstandard.ZstdCompressor(level=1).compress(data)


def unpack_sums(data: bytes, blocks: int) -> BlockSums:
    """What `pack_sums` packed."""
    raw = samples.decompress(data, 16 * blocks)
    return BlockSums(np.frombuffer(raw, "<f8", blocks), np.frombuffer(raw, "<i8", blocks, 8 * blocks))


def unpack_level(data: bytes, block: int, blocks: int) -> Level:
    """A level whose lows and highs were packed one after the other."""
    both = samples.unpack(data, 2 * blocks)
    return Level(block, both[:blocks], both[blocks:])


def _keep(channels: Mapping[int, FloatArray]) -> None:
    """Build and keep the pyramids of some channels, in place of any that were there. Call within a transaction."""
    rows: list[dict[str, Any]] = []
    blocks, means = list[tuple[int, str]](), list[tuple[int, float | None]]()
    for channel_id, values in channels.items():
        built = pyramid_of(values)
        finite = values[np.isfinite(values)]
        blocks.append((channel_id, ",".join(str(level.block) for level, _ in built)))
        means.append((channel_id, float(finite.mean()) if finite.size else None))
        rows += [
            {
                "channel": channel_id,
                "block": level.block,
                "blocks": level.size,
                "extremes": blob(samples.pack(np.concatenate((level.low, level.high)))),
                "sums": blob(pack_sums(sums)),
            }
            for level, sums in built
        ]
        if sum(row["blocks"] for row in rows) > _BLOCKS_A_STATEMENT:
            _insert(rows)
            rows = []
    _insert(rows)
    LogChannel.update(levels=Case(LogChannel.id, blocks), mean=Case(LogChannel.id, means)).where(
        LogChannel.id.in_(list(channels))
    ).execute()


def _insert(rows: list[dict[str, Any]]) -> None:
    if rows:
        ChannelLevel.insert_many(rows).on_conflict_replace().execute()


@run_again
def build(log: LogFile) -> int:
    """Build the pyramids of all channels of a log that have none yet, one process at a time; how many that were."""
    with database.connection_context() if database.is_closed() else nullcontext():
        # Only so that the same is not done twice at once; should the lock be lost, the same is written twice.
        database.execute_sql("SELECT GET_LOCK(%s, 60)", (f"{_LOCK}-{log.id}",))
        try:
            with unit_of_work():
                return _build(log)
        finally:
            with suppress(PeeweeException):
                database.execute_sql("SELECT RELEASE_LOCK(%s)", (f"{_LOCK}-{log.id}",))


@run_again
def missing(most: int = 20) -> list[LogFile]:
    """Logs that are ready and have channels without a pyramid: whoever imported them was stopped before it was built."""
    with unit_of_work():
        bare = LogChannel.select(LogChannel.log).where(LogChannel.levels.is_null()).distinct().limit(500)
        ids = [channel.log_id for channel in bare]
        ready = LogFile.select().where(LogFile.id.in_(ids), LogFile.state == READY) if ids else []
        return list(ready)[:most]


def _build(log: LogFile) -> int:
    query = LogChannel.select(LogChannel.id).where(LogChannel.log == log, LogChannel.levels.is_null())
    waiting = [row.id for row in query.order_by(LogChannel.id)]
    for first in range(0, len(waiting), _TOGETHER):
        _keep(samples.values_of(waiting[first : first + _TOGETHER]))
    return len(waiting)
