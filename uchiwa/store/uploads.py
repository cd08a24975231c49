"""Uploads: stored first, imported afterwards; the raw bytes stay whatever becomes of them."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from datetime import timedelta
from typing import BinaryIO

from uchiwa.core.log import Log
from uchiwa.store import samples
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, LogRawChunk, Round

PIECE = 1 << 20
LEASE = timedelta(minutes=2)
STORED, IMPORTING, READY, REFUSED = "stored", "importing", "ready", "refused"


def receive(job: Job, round_: Round, name: str, stream: BinaryIO) -> tuple[LogFile, bool]:
    """Keep an upload's bytes; the log and whether it is new. A file that the job already has is not kept twice."""
    log = LogFile.create(
        job=job, round=round_, name=name[:200], size=0, content_hash="", state=STORED, uploaded_at=now()
    )
    digest, size = hashlib.sha256(), 0
    for position, piece in enumerate(iter(lambda: stream.read(PIECE), b"")):
        LogRawChunk.insert(log=log, position=position, data=piece).execute()
        digest.update(piece)
        size += len(piece)
    log.content_hash, log.size = digest.hexdigest(), size
    twin = LogFile.get_or_none(LogFile.job == job, LogFile.content_hash == log.content_hash, LogFile.id != log.id)
    if twin is not None:
        LogFile.delete().where(LogFile.id == log.id).execute()
        return twin, False
    log.save()
    return log, True


def pieces(log: LogFile) -> Iterator[bytes]:
    """The raw upload, piece by piece."""
    query = LogRawChunk.select(LogRawChunk.data).where(LogRawChunk.log == log).order_by(LogRawChunk.position)
    for piece in query.iterator():
        yield bytes(piece.data)


def claim(log_id: int) -> LogFile | None:
    """Take a log for import, for the length of a lease; None if it is done or another worker has it."""
    free = (LogFile.state == STORED) | ((LogFile.state == IMPORTING) & (LogFile.lease_until < now()))
    with unit_of_work():
        taken = LogFile.update(state=IMPORTING, lease_until=now() + LEASE).where(LogFile.id == log_id, free).execute()
        return LogFile.get_by_id(log_id) if taken else None


def complete(log: LogFile, recording: Log) -> None:
    """Keep the samples and show the log, both at once or neither."""
    with unit_of_work():
        samples.write(log, recording)
        LogFile.update(
            state=READY,
            message="",
            duration_s=recording.duration,
            samples=max(raster.time.size for raster in recording.rasters),
            notes=json.dumps(dict(recording.notes), ensure_ascii=False),
            lease_until=None,
        ).where(LogFile.id == log.id).execute()


def refuse(log: LogFile, message: str) -> None:
    """Say why a log cannot be used."""
    with unit_of_work():
        LogFile.update(state=REFUSED, message=message[:500], lease_until=None).where(LogFile.id == log.id).execute()


def release(log: LogFile) -> None:
    """Give a claimed log back, so that the next try need not wait for the lease to end."""
    with unit_of_work():
        LogFile.update(state=STORED, lease_until=None).where(LogFile.id == log.id).execute()


def waiting() -> list[int]:
    """Logs not yet imported whose worker, if they had one, is gone."""
    free = (LogFile.state == STORED) | ((LogFile.state == IMPORTING) & (LogFile.lease_until < now()))
    with unit_of_work():
        return [log.id for log in LogFile.select(LogFile.id).where(free).order_by(LogFile.id)]
