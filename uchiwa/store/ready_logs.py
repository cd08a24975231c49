"""Logs that can be read: of a round, of a job, or chosen ones."""

from __future__ import annotations

from collections.abc import Collection

from uchiwa.store.log_states import IMPORTING, READY, RECORDING, STORED
from uchiwa.store.models import Job, LiveSession, LogFile, Round


def first_of(round_: Round) -> LogFile | None:
    """The log that a round is opened with: the newest of those that are accepted, else the newest."""
    ready = LogFile.select().where(LogFile.round == round_, LogFile.state == READY)
    found: LogFile | None = ready.order_by(LogFile.accepted.desc(), LogFile.id.desc()).first()
    return found


def of_job(job: Job) -> list[LogFile]:
    """All of a job, each with its round, the newest first."""
    ready = LogFile.select(LogFile, Round).join(Round).where(LogFile.job == job, LogFile.state == READY)
    return list(ready.order_by(Round.number.desc(), LogFile.id.desc()))


def chosen(job: Job, log_ids: Collection[int]) -> dict[int, LogFile]:
    """Those of the named logs that are the job's, each with its round, by number.

    Those being recorded are among them, and those of live sessions that have ended and are not imported yet.
    """
    if not log_ids:
        return {}
    passed = LiveSession.select(LiveSession.log).where(LiveSession.log.in_(list(log_ids)))
    open_ = LogFile.state.in_((READY, RECORDING)) | (LogFile.state.in_((STORED, IMPORTING)) & LogFile.id.in_(passed))
    ready = LogFile.select(LogFile, Round).join(Round).where(LogFile.job == job, open_)
    return {log.id: log for log in ready.where(LogFile.id.in_(list(log_ids)))}
