"""Uploads: stored first, imported afterwards; the raw bytes stay whatever becomes of them."""

from __future__ import annotations

import hashlib
import json
import uuid
from collections import deque
from collections.abc import Collection, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import asdict
from datetime import timedelta
from typing import BinaryIO

import zstandard
from peewee import Expression, Function, IntegrityError, fn

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log
from uchiwa.core.pulls.recognised import from_dyno
from uchiwa.store import moves
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job, LogChannel, LogFile, LogRawChunk, Round, blob

PIECE = 1 << 20
LEASE = timedelta(seconds=30)
ATTEMPTS = 3
RECEIVING, STORED, IMPORTING, READY, REFUSED = "receiving", "stored", "importing", "ready", "refused"
_ZSTD = "zstd"
_PACKERS = 2
_AHEAD = 4
HOURLY = 120
_STALE_UPLOAD = timedelta(days=7)


# Owners of the imports that this process looks after, so that its heartbeat can hold on to them.
_held: set[str] = set()


class LeaseLostError(RuntimeError):
    """Another worker has taken over this import."""


def _packed(piece: bytes) -> Function:
    return blob(zstandard.ZstdCompressor(level=1).compress(piece))


@run_again
def _keep_piece(log: LogFile, position: int, piece: Function) -> None:
    with unit_of_work():
        LogRawChunk.insert(log=log, position=position, data=piece).on_conflict(preserve=(LogRawChunk.data,)).execute()


def receive(job: Job, round_: Round, name: str, stream: BinaryIO, *, by_customer: bool = False) -> tuple[LogFile, bool]:
    """Keep an upload's bytes; the log and whether it is new. A file that the job already has is not kept twice.

    Call outside a transaction: the bytes go in one by one, and the file is there once all of them are.
    """
    log = _begin(job, round_, name, None, by_customer=by_customer)
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
                _keep_piece(log, position, ahead.popleft().result())
                position += 1
            elif not piece:
                break
    return _whole(log, digest.hexdigest(), size)


@run_again
def _begin(job: Job, round_: Round, name: str, key: str | None, *, by_customer: bool) -> LogFile:
    with unit_of_work():
        return LogFile.create(
            job=job,
            round=round_,
            name=name[:200],
            size=0,
            content_hash=None,
            codec=_ZSTD,
            state=RECEIVING,
            upload_key=key,
            uploaded_at=now(),
            by_customer=by_customer,
        )


@run_again
def _whole(log: LogFile, digest: str, size: int) -> tuple[LogFile, bool]:
    """Everything has arrived: the log, or its twin if the job already has the same bytes."""
    with unit_of_work():
        lock_job(log.job_id)
        arrived = LogFile.update(
            content_hash=digest, size=size, state=STORED, upload_key=None, uploaded_at=now(), attempts=0
        ).where(LogFile.id == log.id, LogFile.state == RECEIVING)
        try:
            done = bool(arrived.execute())
        except IntegrityError:
            LogFile.delete().where(LogFile.id == log.id).execute()
            done = False
        if not done:
            twin = LogFile.get_or_none(LogFile.job == log.job_id, LogFile.content_hash == digest)
            if twin is None:
                raise BadInput("its parts are gone", where=str(log.name), advice="send the file again")
            return twin, False
        moves.passed(log.job_id)
        return LogFile.get_by_id(log.id), True


def too_many(job: Job) -> bool:
    """Whether a job's customer has sent more logs within the last hour than anybody drives."""
    hour = now() - timedelta(hours=1)
    return LogFile.select().where(LogFile.job == job, LogFile.by_customer, LogFile.uploaded_at > hour).count() >= HOURLY


def received(round_: Round, key: str) -> int:
    """How many bytes of an upload have arrived so far; it goes on from there."""
    log = LogFile.get_or_none(LogFile.round == round_, LogFile.upload_key == key, LogFile.state == RECEIVING)
    return log.size if log is not None else 0


def receive_piece(
    job: Job, round_: Round, key: str, name: str, start: int, total: int, piece: bytes, *, by_customer: bool
) -> tuple[LogFile, bool | None]:
    """Keep the next piece of an upload. Call outside a transaction.

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
    log = _append(job, round_, key, name, start, total, piece, by_customer=by_customer)
    if log.size < total:
        return log, None
    digest = hashlib.sha256()
    with unit_of_work():
        for one in pieces(log):
            digest.update(one)
    return _whole(log, digest.hexdigest(), total)


@run_again
def _append(
    job: Job, round_: Round, key: str, name: str, start: int, total: int, piece: bytes, *, by_customer: bool
) -> LogFile:
    packed = _packed(piece) if piece else None
    with unit_of_work():
        lock_job(job.id)
        mine = (LogFile.round == round_) & (LogFile.upload_key == key) & (LogFile.state == RECEIVING)
        log = LogFile.select().where(mine).for_update().first()
        if log is None:
            if start:
                raise BadInput("an earlier part of this file is missing", where=name, advice="send the file again")
            log = _begin(job, round_, name, key, by_customer=by_customer)
        if start > log.size or len(piece) > PIECE or start + len(piece) > total:
            raise BadInput("the parts of this file do not fit together", where=name, advice="send the file again")
        if packed is not None and start == log.size:
            last = LogRawChunk.select(fn.MAX(LogRawChunk.position)).where(LogRawChunk.log == log).scalar()
            _keep_piece(log, 0 if last is None else last + 1, packed)
            log.size = start + len(piece)
            LogFile.update(size=log.size, uploaded_at=now()).where(LogFile.id == log.id).execute()
        return log


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


def _free() -> Expression:
    """What no worker holds. A lease that ends too far away is none: the clock was set back since."""
    at = now()
    over = (LogFile.lease_until < at) | (LogFile.lease_until > at + 2 * LEASE) | LogFile.lease_until.is_null()
    return (LogFile.state == STORED) | ((LogFile.state == IMPORTING) & over)


@run_again
def claim(log_id: int) -> LogFile | None:
    """Take a log for import, for the length of a lease; None if it is done or another worker has it.

    One that was begun three times and never came to an end is refused, and says so.
    """
    owner = str(uuid.uuid4())
    with unit_of_work():
        wanted = LogFile.select().where(LogFile.id == log_id, LogFile.source.is_null(), _free())
        log = wanted.for_update("FOR UPDATE SKIP LOCKED").first()
        if log is None:
            return None
        if log.attempts >= ATTEMPTS:
            _refuse_row(log, WORN_OUT)
            return None
        LogFile.update(
            state=IMPORTING,
            lease_until=now() + LEASE,
            owner=owner,
            percent=0,
            stage="waiting",
            attempts=LogFile.attempts + 1,
        ).where(LogFile.id == log_id).execute()
        log = LogFile.get_by_id(log_id)
    _held.add(owner)
    return log


WORN_OUT = (
    f"Reading it was begun {ATTEMPTS} times and never came to an end. The file is kept: export it again as plain text, "
    "one drive to a file, or have it checked again."
)


@run_again
def next_waiting(most_of_a_shop: int, passed_over: Collection[int] = ()) -> int | None:
    """The log to import next: the oldest of the shop of which the fewest are being imported.

    Args:
        most_of_a_shop: a shop of which so many are under way has to wait, so that there is room for others.
        passed_over: logs that somebody else holds just now.
    """
    with unit_of_work():
        busy = LogFile.select(Job.shop, fn.COUNT(LogFile.id).alias("number")).join(Job)
        busy = busy.where(LogFile.state == IMPORTING, LogFile.source.is_null(), ~_free()).group_by(Job.shop)
        running = {shop: int(number) for shop, number in busy.tuples()}
        oldest = LogFile.select(Job.shop, fn.MIN(LogFile.id)).join(Job).where(LogFile.source.is_null(), _free())
        if passed_over:
            oldest = oldest.where(LogFile.id.not_in(list(passed_over)))
        found = [(running.get(shop, 0), int(first)) for shop, first in oldest.group_by(Job.shop).tuples()]
    free = [one for one in found if one[0] < most_of_a_shop]
    return min(free)[1] if free else None


@run_again
def held_by(log_id: int, owner: str) -> LogFile:
    """A log whose import has this lease.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        log = LogFile.get_or_none(LogFile.id == log_id, LogFile.owner == owner, LogFile.state == IMPORTING)
    if log is None:
        raise LeaseLostError
    return log


@run_again
def waiting_beside(log: LogFile) -> int:
    """How many other logs of the same shop wait or are being imported."""
    with unit_of_work():
        shop = Job.select(Job.shop).where(Job.id == log.job_id)
        beside = LogFile.select().join(Job).where(Job.shop == shop, LogFile.id != log.id, LogFile.source.is_null())
        return int(beside.where(LogFile.state.in_((STORED, IMPORTING))).count())


def let_go(log: LogFile) -> None:
    """This process no longer works on a log."""
    _held.discard(log.owner)


def hold_on() -> None:
    """Renew the leases of every import that this process looks after; a worker calls it with each heartbeat."""
    if _held:
        with unit_of_work():
            LogFile.update(lease_until=now() + LEASE).where(
                LogFile.owner.in_(list(_held)), LogFile.state == IMPORTING
            ).execute()


def must_hold(log: LogFile) -> None:
    """Make sure, at the beginning of a transaction and until its end, that an import still has its lease.

    Raises:
        LeaseLostError: another worker has it.
    """
    mine = (LogFile.id == log.id) & (LogFile.owner == log.owner) & (LogFile.state == IMPORTING)
    if LogFile.select(LogFile.id).where(mine).for_update().scalar() is None:
        raise LeaseLostError


@run_again
def progress(log: LogFile, percent: int, stage: str) -> None:
    """Show how far an import is, and hold on to it for another lease.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        must_hold(log)
        LogFile.update(percent=percent, stage=stage, lease_until=now() + LEASE).where(LogFile.id == log.id).execute()


@run_again
def clear(log: LogFile) -> None:
    """Remove what an import that did not finish, or an earlier one, has left of a log.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        must_hold(log)
        LogChannel.delete().where(LogChannel.log == log).execute()


@run_again
def siblings(log: LogFile, count: int) -> list[LogFile]:
    """Rows for the further recordings of a file, made anew or found again; those too many go.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        must_hold(log)
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
                content_hash=None,
                codec=log.codec,
                state=IMPORTING,
                uploaded_at=log.uploaded_at,
                by_customer=log.by_customer,
            )
        return list(LogFile.select().where(LogFile.source == log).order_by(LogFile.id))[:count]


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
    """The import is done: show all recordings of the file at once, as a new reading. Call within a transaction."""
    ids = [log.id for log in logs]
    LogFile.update(
        state=READY, message="", percent=100, stage="", lease_until=None, attempts=0, reading=LogFile.reading + 1
    ).where(LogFile.id.in_(ids)).execute()


@run_again
def refuse(log: LogFile, message: str) -> None:
    """Say why a log cannot be used.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        lock_job(log.job_id)
        must_hold(log)
        _refuse_row(log, message)
        moves.passed(log.job_id)


def _refuse_row(log: LogFile, message: str) -> None:
    LogFile.delete().where(LogFile.source == log).execute()
    LogFile.update(state=REFUSED, message=message[:500], lease_until=None, stage="", attempts=0).where(
        LogFile.id == log.id
    ).execute()


@run_again
def release(log: LogFile, *, counts: bool = True) -> None:
    """Give a claimed log back, so that the next try need not wait for the lease to end.

    Args:
        counts: whether this try was one of the three that a file has; not if it was none of the file's doing.
    """
    with unit_of_work():
        back = 0 if counts else 1
        LogFile.update(
            state=STORED, lease_until=None, stage="", attempts=fn.GREATEST(LogFile.attempts - back, 0)
        ).where(LogFile.id == log.id, LogFile.owner == log.owner, LogFile.state == IMPORTING).execute()


def read_again(logs: list[LogFile]) -> list[int]:
    """Send logs through the import once more, as after a channel was put right; the ids of the files to import.

    An import that is under way loses its lease, for it goes by what was known before.
    """
    sources = sorted({log.source_id or log.id for log in logs})
    LogFile.update(state=STORED, percent=0, stage="", message="", attempts=0, owner="").where(
        LogFile.id.in_(sources), LogFile.state.in_((READY, REFUSED, IMPORTING))
    ).execute()
    LogFile.update(state=IMPORTING).where(LogFile.source.in_(sources)).execute()
    return sources


def waiting() -> list[int]:
    """Logs not yet imported whose worker, if they had one, is gone."""
    with unit_of_work():
        query = LogFile.select(LogFile.id).where(_free(), LogFile.source.is_null()).order_by(LogFile.id)
        return [log.id for log in query]


def drop_abandoned() -> int:
    """Forget uploads that broke off a week ago and were never sent again."""
    with unit_of_work():
        return LogFile.delete().where(LogFile.state == RECEIVING, LogFile.uploaded_at < now() - _STALE_UPLOAD).execute()
