"""Live sessions: begun by a program at the car, fed batch by batch, ended by it or by silence; then an ordinary log."""

from __future__ import annotations

import hashlib
import json
import secrets
import time
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

import zstandard
from peewee import IntegrityError

from uchiwa.core.errors import BadInput
from uchiwa.core.live.opening import Opening
from uchiwa.store import live_events, moves, shops, uploads
from uchiwa.store.clock import now
from uchiwa.store.database import database, run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.log_states import RECORDING, STORED
from uchiwa.store.models import Job, LiveSession, LogFile, LogRawChunk, Round, blob
from uchiwa.store.rows import first

SILENCE_S = 120.0
"""After so long without a word a session is over."""
HOURLY = 120
REOPENED_WITHIN = timedelta(hours=1)
MOST_BYTES = 120_000_000
MOST_SECONDS = 6 * 3600
CHUNKS = 2_000
_KEY_BYTES = 24
ENDED, SILENT, TOO_LONG = "ended", "silent", "too_long"


class RunningAlreadyError(BadInput):
    """Another session of the job is being recorded."""


class OverError(BadInput):
    """The session has ended, or there is none of this key."""


@dataclass(frozen=True)
class Kept:
    """What became of batches.

    Attributes:
        through: number of the last batch that is kept; the program goes on with the next.
        running: whether the session goes on.
    """

    through: int
    running: bool = True


def milliseconds() -> int:
    """Now, in milliseconds of Unix time."""
    return int(time.time() * 1000)


def _hash(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()


@run_again
def begin(job: Job, round_: Round, opening: Opening) -> tuple[LiveSession, str]:
    """Begin a session; with the key that only its program knows.

    Args:
        job, round_: what it belongs to.
        opening: what the program says of itself; kept before the rows, with the session's number.

    Raises:
        RunningAlreadyError: another one of this job is being recorded.
        BadInput: the shop has no room left.
    """
    key = secrets.token_urlsafe(_KEY_BYTES)
    with unit_of_work():
        lock_job(job.id)
        shops.must_have_room(job.shop_id, 1)
        hour = LiveSession.began_at > now() - timedelta(hours=1)
        if LiveSession.select().where(LiveSession.job == job, hour).count() >= HOURLY:
            raise BadInput(
                f"more than {HOURLY} sessions were begun within an hour", where="the link", advice="wait a little"
            )
        number = LiveSession.select().where(LiveSession.job == job).count() + 1
        log = LogFile.create(
            job=job,
            round=round_,
            name=f"Live {number}{', ' + opening.drive if opening.drive else ''}"[:200],
            size=0,
            content_hash=None,
            codec="zstd",
            state=RECORDING,
            uploaded_at=now(),
            by_customer=True,
        )
        try:
            session = LiveSession.create(
                log=log,
                job=job,
                running=job,
                key_hash=_hash(key),
                opening=opening.line,
                began_at=now(),
                heard_ms=milliseconds(),
            )
        except IntegrityError:
            raise RunningAlreadyError(
                "another session of this car is being recorded",
                where="the link",
                advice="end that one first; it ends by itself two minutes after it was last heard",
            ) from None
        line = opening.model_copy(update={"session": session.id}).line.encode()
        LogRawChunk.insert(log=log, position=0, data=_packed(line)).execute()
        LiveSession.update(bytes=len(line)).where(LiveSession.id == session.id).execute()
    return session, key


def _packed(data: bytes) -> object:
    return blob(_pressed(data))


def _pressed(data: bytes) -> bytes:
    return zstandard.ZstdCompressor(level=3).compress(data)


def of_key(job: Job, session_id: int, key: str) -> LiveSession:
    """The session that a key opens.

    Raises:
        OverError: there is none.
    """
    found = first(LiveSession.select().where(LiveSession.id == session_id, LiveSession.job == job))
    if found is None or not secrets.compare_digest(found.key_hash, _hash(key)):
        raise OverError("there is no session of this key", where="the link", advice="begin a new one")
    return found


_FOLLOW_ON = (
    "UPDATE live_session SET batches = %s, `rows` = `rows` + %s, bytes = bytes + %s, heard_ms = %s "
    "WHERE id = %s AND running_id IS NOT NULL AND batches = %s AND bytes + %s <= %s"
)
_STATE = "SELECT s.batches, s.`rows`, s.bytes, s.running_id, s.log_id FROM live_session s WHERE s.id = %s FOR UPDATE"
_KEEP = "INSERT IGNORE INTO log_raw_chunk (log_id, position, data) VALUES "
_NOTE = "UPDATE live_session SET batches = %s, `rows` = %s, bytes = %s, heard_ms = %s WHERE id = %s"


@run_again
def take(session: LiveSession, batches: Sequence[tuple[int, bytes, int]]) -> Kept:
    """Keep batches that follow on what is here; those that are kept already are passed over.

    Written as SQL, and in as few statements as can be: this is done ten times a second for every session.

    Args:
        session: as it was when its program came; how far it has come is asked here.
        batches: number, text and number of rows of each, in their order.

    Raises:
        BadInput: a batch does not follow on the last, or the session has grown too large.
    """
    with unit_of_work():
        if _all_follow_on(session, batches):
            return Kept(batches[-1][0])
        return _one_by_one(session.id, batches)


def _all_follow_on(session: LiveSession, batches: Sequence[tuple[int, bytes, int]]) -> bool:
    """Keep batches of which each follows on the last, the first of them on what is here, as is usual; whether they did."""
    numbers = [number for number, _, _ in batches]
    if not numbers or numbers != list(range(numbers[0], numbers[0] + len(numbers))):
        return False
    lines = [_line(text) for _, text, _ in batches]
    size, rows = sum(len(line) for line in lines), sum(count for _, _, count in batches)
    wanted = (numbers[-1], rows, size, milliseconds(), session.id, numbers[0] - 1, size, MOST_BYTES)
    if not database.execute_sql(_FOLLOW_ON, wanted).rowcount:
        return False
    kept = [
        value for number, line in zip(numbers, lines, strict=True) for value in (session.log_id, number, _pressed(line))
    ]
    database.execute_sql(_KEEP + ", ".join(["(%s, %s, %s)"] * len(numbers)), kept)
    return True


def _line(text: bytes) -> bytes:
    return text if text.endswith(b"\n") else text + b"\n"


def _one_by_one(session_id: int, batches: Sequence[tuple[int, bytes, int]]) -> Kept:
    """Keep those batches that follow on what is here, in the caller's transaction."""
    found = database.execute_sql(_STATE, (session_id,)).fetchone()
    if found is None:
        raise OverError("the session is gone", where="the link", advice="begin a new one")
    through, rows, size, running, log_id = found
    if running is None:
        return Kept(through, running=False)
    for number, text, count in batches:
        if number <= through:
            continue
        if number != through + 1:
            raise BadInput(
                f"batch {number} came, and {through + 1} is next",
                where="the order",
                advice=f"send {through + 1} first",
            )
        if size + len(text) > MOST_BYTES:
            raise BadInput(
                f"the session has grown to {MOST_BYTES // 1_000_000} MB",
                where="its size",
                advice="end it and begin another",
            )
        line = _line(text)
        database.execute_sql(_KEEP + "(%s, %s, %s)", (log_id, number, _pressed(line)))
        through, rows, size = number, rows + count, size + len(line)
    database.execute_sql(_NOTE, (through, rows, size, milliseconds(), session_id))
    return Kept(through)


def chunks_after(log_id: int, position: int, most: int = CHUNKS) -> list[tuple[int, bytes]]:
    """The next lines of a log that is being recorded, each with its position; 0 is the opening."""
    found = database.execute_sql(
        "SELECT position, data FROM log_raw_chunk WHERE log_id = %s AND position > %s ORDER BY position LIMIT %s",
        (log_id, position, most),
    ).fetchall()
    unpack = zstandard.ZstdDecompressor()
    return [(number, unpack.decompress(bytes(data), max_output_size=uploads.PIECE)) for number, data in found]


def chunks_of_several(wanted: Sequence[tuple[int, int]], most: int = CHUNKS) -> dict[int, list[tuple[int, bytes]]]:
    """The next lines of several logs, by log, in one query.

    Args:
        wanted: log, and the position after which lines are wanted, of each.
        most: so many lines of all of them together.
    """
    if not wanted:
        return {}
    each = " OR ".join(["(log_id = %s AND position > %s)"] * len(wanted))
    statement = f"SELECT log_id, position, data FROM log_raw_chunk WHERE {each} ORDER BY log_id, position LIMIT %s"  # noqa: S608
    unpack, found = zstandard.ZstdDecompressor(), dict[int, list[tuple[int, bytes]]]()
    flat = [value for pair in wanted for value in pair]
    for log_id, position, data in database.execute_sql(statement, (*flat, most)).fetchall():
        line = unpack.decompress(bytes(data), max_output_size=uploads.PIECE)
        found.setdefault(log_id, []).append((position, line))
    return found


@run_again
def end(session_id: int, why: str = ENDED) -> bool:
    """End a session: from now on it is an ordinary log that waits to be read. Whether this call has ended it.

    Call outside a transaction. A session of which no row came leaves nothing.
    """
    with unit_of_work():
        session = LiveSession.get_or_none(LiveSession.id == session_id)
    if session is None:
        return False
    with unit_of_work():
        lock_job(session.job_id)
        mine = LiveSession.select().where(LiveSession.id == session_id, LiveSession.running.is_null(False))
        held = first(mine.for_update())
        if held is None:
            return False
        if not held.rows:
            LogFile.delete().where(LogFile.id == held.log_id).execute()
            return True
        size = held.bytes + _keep_marks(held)
        LiveSession.update(running=None, ended_at=now(), ended_why=why, wanted=False, allowed=False).where(
            LiveSession.id == held.id
        ).execute()
        LogFile.update(
            state=STORED,
            size=size,
            content_hash=_digest(held.log_id),
            attempts=0,
            owner="",
            lease_until=None,
            percent=0,
            stage="",
            uploaded_at=now(),
        ).where(LogFile.id == held.log_id).execute()
        live_events.note(held.id, why, "server", seconds_of(held))
        moves.passed(held.job_id)
    return True


def seconds_of(session: LiveSession) -> float:
    """How long a session has gone on, by what its analysis last saw."""
    return float(json.loads(session.analysis).get("seconds", 0.0)) if session.analysis else 0.0


def _keep_marks(session: LiveSession) -> int:
    """The driver's marks, as the last line of the log; its length."""
    marks = live_events.marks_of(session.id)
    if not marks:
        return 0
    line = json.dumps({"marks": marks}).encode() + b"\n"
    LogRawChunk.insert(log=session.log_id, position=session.batches + 1, data=_packed(line)).on_conflict(
        preserve=(LogRawChunk.data,)
    ).execute()
    return len(line)


def _digest(log_id: int) -> str:
    """The hash of what was kept, as of any upload."""
    digest, unpack = hashlib.sha256(), zstandard.ZstdDecompressor()
    query = LogRawChunk.select(LogRawChunk.data).where(LogRawChunk.log == log_id).order_by(LogRawChunk.position)
    for chunk in query.iterator():
        digest.update(unpack.decompress(bytes(chunk.data), max_output_size=uploads.PIECE))
    return digest.hexdigest()


@run_again
def reopen(session: LiveSession) -> LiveSession:
    """Go on with a session that was ended by silence less than an hour ago.

    Raises:
        OverError: it was ended otherwise, or too long ago.
        RunningAlreadyError: another one has begun since.
    """
    with unit_of_work():
        lock_job(session.job_id)
        held = first(LiveSession.select().where(LiveSession.id == session.id).for_update())
        if held is None:
            raise OverError("the session is gone", where="the link", advice="begin a new one")
        if held.running_id is not None:
            return held
        if held.ended_why != SILENT or held.ended_at is None or now() - held.ended_at > REOPENED_WITHIN:
            raise OverError("the session has ended", where="the link", advice="begin a new one")
        try:
            LiveSession.update(
                running=held.job_id, ended_at=None, ended_why="", heard_ms=milliseconds(), decided=""
            ).where(LiveSession.id == held.id).execute()
        except IntegrityError:
            raise RunningAlreadyError(
                "another session of this car has begun since",
                where="the link",
                advice="end that one, or begin a new one",
            ) from None
        LogRawChunk.delete().where(LogRawChunk.log == held.log_id, LogRawChunk.position > held.batches).execute()
        LogFile.update(state=RECORDING, content_hash=None, owner="", lease_until=None).where(
            LogFile.id == held.log_id
        ).execute()
        LogFile.delete().where(LogFile.source == held.log_id).execute()
        live_events.note(held.id, "resumed", "car", seconds_of(held))
        return LiveSession.get_by_id(held.id)
