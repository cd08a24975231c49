"""Live sessions looked up: those of a job, those that run, those that fell silent, and how each stands."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from uchiwa.store.clock import now
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.live_passing import MOST_SECONDS, SILENCE_S, milliseconds
from uchiwa.store.models import Job, LiveSession, LogFile
from uchiwa.store.rows import first, rows


def silent() -> list[int]:
    """Sessions that have not been heard for two minutes; a clock that was set back keeps none of them open for ever."""
    at = milliseconds()
    with unit_of_work():
        quiet = (LiveSession.heard_ms < at - SILENCE_S * 1000) | (LiveSession.heard_ms > at + SILENCE_S * 1000)
        query = LiveSession.select(LiveSession.id).where(LiveSession.running.is_null(False), quiet)
        return [session.id for session in query]


def overlong() -> list[int]:
    """Sessions that go on for longer than any drive."""
    with unit_of_work():
        begun = LiveSession.began_at < now() - timedelta(seconds=MOST_SECONDS)
        query = LiveSession.select(LiveSession.id).where(LiveSession.running.is_null(False), begun)
        return [session.id for session in query]


def running_of(job: Job) -> LiveSession | None:
    """The session of a job that is being recorded."""
    return first(LiveSession.select(LiveSession, LogFile).join(LogFile).where(LiveSession.running == job))


def jobs_recording(shop_id: int) -> set[int]:
    """The jobs of a shop of which a drive is being recorded."""
    query = LiveSession.select(LiveSession.running).join(Job, on=(LiveSession.running == Job.id))
    return {int(job_id) for (job_id,) in rows(query.where(Job.shop == shop_id))}


def latest_of(job: Job) -> LiveSession | None:
    """The session of a job that runs, or the last one that did."""
    query = LiveSession.select(LiveSession, LogFile).join(LogFile).where(LiveSession.job == job)
    return first(query.order_by(LiveSession.id.desc()))


def find(job: Job, session_id: int) -> LiveSession | None:
    """A session of a job."""
    query = LiveSession.select(LiveSession, LogFile).join(LogFile)
    return first(query.where(LiveSession.job == job, LiveSession.id == session_id))


def of_logs(log_ids: Sequence[int]) -> dict[int, LiveSession]:
    """The sessions that some logs are, by log."""
    if not log_ids:
        return {}
    return {session.log_id: session for session in LiveSession.select().where(LiveSession.log.in_(list(log_ids)))}


def running() -> list[int]:
    """Every session that is being recorded."""
    with unit_of_work():
        return [session.id for session in LiveSession.select(LiveSession.id).where(LiveSession.running.is_null(False))]


def decide(session: LiveSession, what: str) -> None:
    """Note what became of a session's correction."""
    LiveSession.update(decided=what).where(LiveSession.id == session.id).execute()


def keep_limits(session: LiveSession, document: str) -> None:
    """Keep a session's limits."""
    LiveSession.update(limits=document, limits_version=LiveSession.limits_version + 1).where(
        LiveSession.id == session.id
    ).execute()


@dataclass(frozen=True)
class SessionState:
    """How a session stands, as everybody who follows it asks a few times a second.

    Attributes:
        batches: kept so far.
        heard_ms: when it was last heard, Unix time.
        running: whether it goes on.
        ended_why: why it does not.
        limits, analysed: numbers that grow when the limits change, and when the worker has found something.
        wanted, allowed: whether the tuner wants overlays driven, and the customer allows it.
        overlay, acknowledged: numbers of the newest overlay, and of the one that is driven.
        decided: what became of the correction.
        event, message: numbers of the last event, and of the last message.
        log_state: of its log.
    """

    batches: int
    heard_ms: int
    running: bool
    ended_why: str
    limits: int
    analysed: int
    wanted: bool
    allowed: bool
    overlay: int
    acknowledged: int
    decided: str
    event: int
    message: int
    log_state: str


@dataclass(frozen=True)
class SessionNews:
    """How a session stands, and what else is new of it.

    Attributes:
        standing: how it stands.
        analysis, limits: the documents, if one of them has changed; None if not.
    """

    standing: SessionState
    analysis: str | None = None
    limits: str | None = None


_STANDING = (
    "SELECT JSON_ARRAY(s.id, s.batches, s.heard_ms, s.running_id IS NOT NULL, s.ended_why, s.limits_version, s.analysed, s.wanted, "
    "s.allowed, s.overlay, s.acknowledged, s.decided, (SELECT COALESCE(MAX(e.id), 0) FROM live_event e WHERE e.session_id = s.id), "
    "(SELECT COALESCE(MAX(m.id), 0) FROM message m WHERE m.job_id = s.job_id), l.state), "
    "{documents} FROM live_session s JOIN log_file l ON l.id = s.log_id WHERE s.id IN ({ids})"
)
"""Two columns: the driver takes far longer over sixteen than over two."""
_DOCUMENTS = "IF((s.id, s.analysed, s.limits_version) IN ({known}), NULL, JSON_ARRAY(s.analysis, s.limits))"
_FLAGS = (2, 6, 7)
UNKNOWN = (-1, -1)


def standing(session_id: int) -> SessionState | None:
    """How a session stands; None if it is gone."""
    found = _news("NULL", [], [session_id]).get(session_id)
    return found.standing if found is not None else None


def news_of(known: Mapping[int, tuple[int, int]]) -> dict[int, SessionNews]:
    """What is new of several sessions, in one query; those that are gone are left out.

    Args:
        known: by session, the numbers of the analysis and of the limits that are known already.
    """
    if not known:
        return {}
    documents = _DOCUMENTS.format(known=", ".join(["(%s, %s, %s)"] * len(known)))
    numbers = [value for session_id, pair in known.items() for value in (session_id, *pair)]
    return _news(documents, numbers, list(known))


def _news(documents_sql: str, numbers: list[int], session_ids: list[int]) -> dict[int, SessionNews]:
    statement = _STANDING.format(documents=documents_sql, ids=", ".join(["%s"] * len(session_ids)))
    found: dict[int, SessionNews] = {}
    for row, documents in database.execute_sql(statement, [*numbers, *session_ids]).fetchall():
        session_id, *of_it = json.loads(row)
        values: list[Any] = [bool(one) if place in _FLAGS else one for place, one in enumerate(of_it)]
        found[session_id] = SessionNews(
            SessionState(*values), *(json.loads(documents) if documents is not None else ())
        )
    return found


def get(session_id: int) -> LiveSession:
    """A session that there is."""
    return LiveSession.get_by_id(session_id)


def recent(job: Job, most: int) -> list[LiveSession]:
    """The last sessions of a job with their logs, newest first."""
    query = LiveSession.select(LiveSession, LogFile).join(LogFile).where(LiveSession.job == job)
    return list(query.order_by(LiveSession.id.desc()).limit(most))
