"""Uploads: stored first, imported afterwards; the raw bytes stay whatever becomes of them."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict
from datetime import timedelta
from typing import BinaryIO

import zstandard
from peewee import Function

from uchiwa.core.errors import BadInput
from uchiwa.core.log import Log
from uchiwa.core.pulls.recognised import from_dyno
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogChannel, LogFile, LogRawChunk, Round, blob

PIECE = 1 << 20
LEASE = timedelta(seconds=15)
RECEIVING, STORED, IMPORTING, READY, REFUSED = "receiving", "stored", "importing", "ready", "refused"
_ZSTD = "zstd"
_PACKERS = 2
_AHEAD = 4
HOURLY = 120
_STALE_UPLOAD = timedelta(days=7)


# Owners of the imports that run in this process, so that its heartbeat can hold on to them.
_held: set[str] = set()


class LeaseLostError(RuntimeError):
    """Another worker has taken over this import."""


def _packed(piece: bytes) -> Function:
    return blob(zstandard.ZstdCompressor(level=1).compress(piece))


def _keep_piece(log: LogFile, position: int, piece: bytes) -> None:
    LogRawChunk.insert(log=log, position=position, data=_packed(piece)).execute()


def receive(job: Job, round_: Round, name: str, stream: BinaryIO, *, by_customer: bool = False) -> tuple[LogFile, bool]:
    """Keep an upload's bytes; the log and whether it is new. A file that the job already has is not kept twice."""
    log = _begin(job, round_, name, "", by_customer=by_customer)
    digest, size, position = hashlib.sha256(), 0, 0
    ahead: deque[Future[Function]] = deque()
    with ThreadPoolExecutor(_PACKERS) as pool, ThreadPoolExecutor(1) as hashing:
        while True:
            piece = stream.read(PIECE)
            if piece:
                ahead.append(pool.submit(_packed, piece))
                hashing.submit(digest.update, piece)
                size += len(piece)
            if ahead and (not piece or len(ahead) > _AHEAD):
                LogRawChunk.insert(log=log, position=position, data=ahead.popleft().result()).execute()
                position += 1
            elif not piece:
                break
    return _whole(log, digest.hexdigest(), size)


def _begin(job: Job, round_: Round, name: str, key: str, *, by_customer: bool) -> LogFile:
    return LogFile.create(
        job=job,
        round=round_,
        name=name[:200],
        size=0,
        content_hash="",
        codec=_ZSTD,
        state=RECEIVING,
        upload_key=key,
        uploaded_at=now(),
        by_customer=by_customer,
    )


def _whole(log: LogFile, digest: str, size: int) -> tuple[LogFile, bool]:
    """Everything has arrived: the log, or its twin if the job already has the same bytes."""
    twin = LogFile.get_or_none(
        LogFile.job == log.job_id, LogFile.content_hash == digest, LogFile.id != log.id, LogFile.source.is_null()
    )
    if twin is not None:
        LogFile.delete().where(LogFile.id == log.id).execute()
        return twin, False
    log.content_hash, log.size, log.state, log.upload_key = digest, size, STORED, ""
    log.save()
    return log, True


def too_many(job: Job) -> bool:
    """Whether a job's customer has sent more logs within the last hour than anybody drives."""
    hour = now() - timedelta(hours=1)
    return LogFile.select().where(LogFile.job == job, LogFile.by_customer, LogFile.uploaded_at > hour).count() >= HOURLY


def received(job: Job, round_: Round, key: str) -> int:
    """How many bytes of an upload have arrived so far; it goes on from there."""
    log = LogFile.get_or_none(
        LogFile.job == job, LogFile.round == round_, LogFile.upload_key == key, LogFile.state == RECEIVING
    )
    return log.size if log is not None else 0


def receive_piece(
    job: Job, round_: Round, key: str, name: str, start: int, total: int, piece: bytes, *, by_customer: bool
) -> tuple[LogFile, bool | None]:
    """Keep the next piece of an upload.

    Args:
        job, round_: what it belongs to.
        key: names the upload; the same file gets the same key, so that sending it again goes on where it broke off.
        name: of the file.
        start: bytes sent before this piece; pieces that are already here are passed over.
        total: bytes of the whole file.
        piece: up to `PIECE` bytes.
        by_customer: whether the customer sends it.

    Returns:
        The log and, with the last piece, whether it is new; None while more is to come.

    Raises:
        BadInput: the piece does not follow on what is here.
    """
    log = (
        LogFile.select()
        .where(LogFile.job == job, LogFile.round == round_, LogFile.upload_key == key, LogFile.state == RECEIVING)
        .for_update()
        .first()
    )
    if log is None:
        if start:
            raise BadInput("an earlier part of this file is missing", where=name, advice="send the file again")
        log = _begin(job, round_, name, key, by_customer=by_customer)
    if start > log.size or len(piece) > PIECE or start + len(piece) > total:
        raise BadInput("the parts of this file do not fit together", where=name, advice="send the file again")
    if start + len(piece) > log.size and start == log.size and piece:
        _keep_piece(log, start // PIECE, piece)
        log.size = start + len(piece)
        LogFile.update(size=log.size, uploaded_at=now()).where(LogFile.id == log.id).execute()
    if log.size < total:
        return log, None
    digest = hashlib.sha256()
    for one in pieces(log):
        digest.update(one)
    return _whole(log, digest.hexdigest(), total)


def pieces(log: LogFile) -> Iterator[bytes]:
    """The raw upload, piece by piece; of a further recording in a file, the whole file."""
    owner = log.source_id or log.id
    packed = log.codec == _ZSTD
    query = LogRawChunk.select(LogRawChunk.data).where(LogRawChunk.log == owner).order_by(LogRawChunk.position)
    for piece in query.iterator():
        data = bytes(piece.data)
        yield zstandard.ZstdDecompressor().decompress(data, max_output_size=PIECE) if packed else data


def whole(log: LogFile) -> bytes:
    """The raw upload in one piece, without holding it twice."""
    data = bytearray()
    for piece in pieces(log):
        data += piece
    return bytes(data)


def claim(log_id: int) -> LogFile | None:
    """Take a log for import, for the length of a lease; None if it is done or another worker has it."""
    free = (LogFile.state == STORED) | ((LogFile.state == IMPORTING) & (LogFile.lease_until < now()))
    owner = str(uuid.uuid4())
    with unit_of_work():
        taken = (
            LogFile.update(state=IMPORTING, lease_until=now() + LEASE, owner=owner, percent=0, stage="waiting")
            .where(LogFile.id == log_id, LogFile.source.is_null(), free)
            .execute()
        )
        if not taken:
            return None
    _held.add(owner)
    with unit_of_work():
        return LogFile.get_by_id(log_id)


def let_go(log: LogFile) -> None:
    """This process no longer works on a log."""
    _held.discard(log.owner)


def hold_on() -> None:
    """Renew the leases of every import that runs in this process; a worker calls it with each heartbeat."""
    if _held:
        with unit_of_work():
            LogFile.update(lease_until=now() + LEASE).where(
                LogFile.owner.in_(list(_held)), LogFile.state == IMPORTING
            ).execute()


def orphans() -> list[int]:
    """Logs whose import stopped without a word: their worker was killed."""
    with unit_of_work():
        query = LogFile.select(LogFile.id).where(
            LogFile.state == IMPORTING, LogFile.lease_until < now(), LogFile.source.is_null()
        )
        return [log.id for log in query]


def progress(log: LogFile, percent: int, stage: str) -> None:
    """Show how far an import is, and hold on to it for another lease.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        held = (
            LogFile.update(percent=percent, stage=stage, lease_until=now() + LEASE)
            .where(LogFile.id == log.id, LogFile.owner == log.owner, LogFile.state == IMPORTING)
            .execute()
        )
        # MariaDB counts rows that changed, so that saying the same twice in a second must be asked again.
        if not held and not LogFile.select().where(LogFile.id == log.id, LogFile.owner == log.owner).exists():
            raise LeaseLostError


def clear(log: LogFile) -> None:
    """Remove what an import that did not finish, or an earlier one, has left of a log."""
    with unit_of_work():
        LogChannel.delete().where(LogChannel.log == log).execute()


def siblings(log: LogFile, count: int) -> list[LogFile]:
    """Rows for the further recordings of a file, made anew or found again; those too many go."""
    with unit_of_work():
        known = list(LogFile.select().where(LogFile.source == log).order_by(LogFile.id))
        for extra in known[count:]:
            extra.delete_instance()
        for _ in range(len(known), count):
            LogFile.create(
                job=log.job_id,
                round=log.round_id,
                source=log,
                name=log.name,
                size=log.size,
                content_hash="",
                codec=log.codec,
                state=IMPORTING,
                uploaded_at=log.uploaded_at,
                by_customer=log.by_customer,
            )
        return list(LogFile.select().where(LogFile.source == log).order_by(LogFile.id))[:count]


def family(log: LogFile) -> list[LogFile]:
    """The recordings of a file: the row that has the raw bytes, and those beside it."""
    return [log, *LogFile.select().where(LogFile.source == log).order_by(LogFile.id)]


def facts_of(recording: Log, header: str) -> dict[str, object]:
    """The columns of a log that its recording fills."""
    return {
        "name": recording.name[:200],
        "duration_s": recording.duration,
        "samples": max(raster.time.size for raster in recording.rasters),
        "notes": json.dumps(dict(recording.notes), ensure_ascii=False),
        "repairs": json.dumps([asdict(repair) for repair in recording.repairs], ensure_ascii=False),
        "header": header,
        "dyno": from_dyno(recording),
    }


def show(logs: list[LogFile]) -> None:
    """The import is done: show all recordings of the file at once. Call within a transaction."""
    ids = [log.id for log in logs]
    LogFile.update(state=READY, message="", percent=100, stage="", lease_until=None).where(
        LogFile.id.in_(ids)
    ).execute()


def refuse(log: LogFile, message: str) -> None:
    """Say why a log cannot be used."""
    with unit_of_work():
        LogFile.delete().where(LogFile.source == log).execute()
        LogFile.update(state=REFUSED, message=message[:500], lease_until=None, stage="").where(
            LogFile.id == log.id
        ).execute()


def release(log: LogFile) -> None:
    """Give a claimed log back, so that the next try need not wait for the lease to end."""
    with unit_of_work():
        LogFile.update(state=STORED, lease_until=None, stage="").where(
            LogFile.id == log.id, LogFile.owner == log.owner
        ).execute()


def read_again(logs: list[LogFile]) -> list[int]:
    """Send logs through the import once more, as after a channel was put right; the ids of the files to import."""
    sources = sorted({log.source_id or log.id for log in logs})
    LogFile.update(state=STORED, percent=0, stage="", message="").where(
        LogFile.id.in_(sources), LogFile.state.in_((READY, REFUSED))
    ).execute()
    LogFile.update(state=IMPORTING).where(LogFile.source.in_(sources)).execute()
    return sources


def waiting() -> list[int]:
    """Logs not yet imported whose worker, if they had one, is gone."""
    free = (LogFile.state == STORED) | ((LogFile.state == IMPORTING) & (LogFile.lease_until < now()))
    with unit_of_work():
        query = LogFile.select(LogFile.id).where(free, LogFile.source.is_null()).order_by(LogFile.id)
        return [log.id for log in query]


def drop_abandoned() -> int:
    """Forget uploads that broke off a week ago and were never sent again."""
    with unit_of_work():
        return LogFile.delete().where(LogFile.state == RECEIVING, LogFile.uploaded_at < now() - _STALE_UPLOAD).execute()
