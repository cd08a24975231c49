"""Uploads: stored first, imported afterwards; the raw bytes stay whatever becomes of them."""

from __future__ import annotations

import hashlib
import json
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from datetime import timedelta
from typing import BinaryIO

import zstandard
from peewee import Function, IntegrityError, fn

from uchiwa.core.errors import BadInput
from uchiwa.core.words.plain_text import one_line
from uchiwa.core.words.sentence import Sentence, sentence_of
from uchiwa.store import moves, shops
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.log_states import RECEIVING, REFUSED, STORED
from uchiwa.store.models import Job, LogFile, LogRawChunk, Round, blob
from uchiwa.store.rows import first

PIECE = 1 << 20
_ZSTD = "zstd"
_PACKERS = 2
_AHEAD = 4
HOURLY = 120
_STALE_UPLOAD = timedelta(days=7)


def _packed(piece: bytes) -> Function:
    return blob(zstandard.ZstdCompressor(level=1).compress(piece))


@run_again
def _keep_piece(log: LogFile, position: int, piece: Function) -> None:
    with unit_of_work():
        LogRawChunk.insert(log=log, position=position, data=piece).on_conflict(preserve=(LogRawChunk.data,)).execute()


def receive(job: Job, round_: Round, name: str, stream: BinaryIO, *, by_customer: bool = False) -> tuple[LogFile, bool]:
    """Keep an upload's bytes; the log and whether it is new. A file that the job already has is not kept twice.

    Raises:
        BadInput: the shop has no room left.

    Call outside a transaction: the bytes go in one by one, and the file is there once all of them are.
    """
    with unit_of_work():
        shops.must_have_room(job.shop_id, 1)
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
            name=one_line(name)[:200].strip() or "log",
            size=0,
            content_hash=None,
            codec=_ZSTD,
            state=RECEIVING,
            upload_key=key,
            uploaded_at=now(),
            by_customer=by_customer,
        )


def _arrived_key(key: str) -> str:
    """What names an upload once it has arrived whole: its last piece may come again, if its answer was lost."""
    return hashlib.sha256(f"arrived|{key}".encode()).hexdigest()


@run_again
def _whole(log: LogFile, digest: str, size: int) -> tuple[LogFile, bool]:
    """Everything has arrived: the log, or its twin if the job already has the same bytes."""
    with unit_of_work():
        lock_job(log.job_id)
        key = _arrived_key(log.upload_key) if log.upload_key else None
        if key:
            LogFile.update(upload_key=None).where(LogFile.round == log.round_id, LogFile.upload_key == key).execute()
        arrived = LogFile.update(
            content_hash=digest, size=size, state=STORED, upload_key=key, uploaded_at=now(), attempts=0
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


@dataclass(frozen=True)
class Upload:
    """A file that comes in pieces.

    Attributes:
        key: names it; the same file gets the same key, so that sending it again goes on where it broke off.
        name: of the file.
        total: bytes of the whole file.
        by_customer: whether the customer sends it.
    """

    key: str
    name: str
    total: int
    by_customer: bool


def receive_piece(round_: Round, upload: Upload, start: int, piece: bytes) -> tuple[LogFile, bool | None]:
    """Keep the next piece of an upload. Call outside a transaction.

    Args:
        round_: to which it belongs.
        start: bytes sent before this piece; pieces that are already here are passed over.
        piece: up to `PIECE` bytes.

    Returns:
        The log and, with the last piece, whether it is new; None while more is to come.

    Raises:
        BadInput: the piece does not follow on what is here, or the shop has no room left.
    """
    log = _append(round_, upload, start, piece)
    if log.state != RECEIVING:
        return log, True
    if log.size < upload.total:
        return log, None
    digest = hashlib.sha256()
    with unit_of_work():
        for one in pieces(log):
            digest.update(one)
    return _whole(log, digest.hexdigest(), upload.total)


@run_again
def _append(round_: Round, upload: Upload, start: int, piece: bytes) -> LogFile:
    job, name, total = round_.job, upload.name, upload.total
    packed = _packed(piece) if piece else None
    with unit_of_work():
        lock_job(job.id)
        mine = (LogFile.round == round_) & (LogFile.upload_key == upload.key) & (LogFile.state == RECEIVING)
        log = first(LogFile.select().where(mine).for_update())
        if log is None:
            known = (
                (LogFile.round == round_) & (LogFile.upload_key == _arrived_key(upload.key)) & (LogFile.size == total)
            )
            arrived = first(LogFile.select().where(known)) if start and start + len(piece) == total else None
            if arrived is not None:
                return arrived
            if start:
                raise BadInput("an earlier part of this file is missing", where=name, advice="send the file again")
            shops.must_have_room(job.shop_id, total)
            log = _begin(job, round_, name, upload.key, by_customer=upload.by_customer)
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


def refuse_row(log: LogFile, message: Sentence) -> None:
    LogFile.delete().where(LogFile.source == log).execute()
    told = message[:1].upper() + message[1:500]
    words = json.dumps(message.data, ensure_ascii=False)
    LogFile.update(state=REFUSED, message=told, message_words=words, lease_until=None, stage="", attempts=0).where(
        LogFile.id == log.id
    ).execute()


def why_refused(log: LogFile) -> str:
    """Why a log cannot be read, as a sentence that can be said in any language."""
    return sentence_of(json.loads(log.message_words)) if log.message_words else log.message


def drop_abandoned() -> int:
    """Forget uploads that broke off a week ago and were never sent again."""
    with unit_of_work():
        return int(
            LogFile.delete().where(LogFile.state == RECEIVING, LogFile.uploaded_at < now() - _STALE_UPLOAD).execute()
        )
