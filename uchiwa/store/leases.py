"""Leases: which worker imports which log, until when, and which is next."""

from __future__ import annotations

import uuid
from collections import Counter
from collections.abc import Collection
from datetime import timedelta

from peewee import Expression, fn

from uchiwa.core.words.sentence import Sentence
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.log_states import IMPORTING, STORED
from uchiwa.store.models import Job, LogFile
from uchiwa.store.rows import first, rows

LEASE = timedelta(seconds=30)
ATTEMPTS = 3
_LONG_S, _LATE = 45.0, timedelta(hours=1)
"""A link that sends files which take so long has one read at a time for so long."""
# Owners of the imports that this process looks after, so that its heartbeat can hold on to them.
_held: set[str] = set()


class LeaseLostError(RuntimeError):
    """Another worker has taken over this import."""


def _free() -> Expression:
    """What no worker holds. A lease that ends too far away is none: the clock was set back since."""
    at = now()
    over = (LogFile.lease_until < at) | (LogFile.lease_until > at + 2 * LEASE) | LogFile.lease_until.is_null()
    return (LogFile.state == STORED) | ((LogFile.state == IMPORTING) & over)


@run_again
def claim(log_id: int) -> LogFile | None:
    """Take a log for import, for the length of a lease; None if it is done, another worker has it, or it is worn out."""
    owner = str(uuid.uuid4())
    with unit_of_work():
        wanted = LogFile.select().where(LogFile.id == log_id, LogFile.source.is_null(), _free())
        log = wanted.for_update("FOR UPDATE SKIP LOCKED").first()  # type: ignore[arg-type]  # peewee takes the clause
        if log is None or log.attempts >= ATTEMPTS:
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


def worn_out(log_id: int) -> LogFile | None:
    """A log that nobody holds and whose import was begun three times and never came to an end, locked; else None."""
    wanted = LogFile.select().where(
        LogFile.id == log_id, LogFile.source.is_null(), LogFile.attempts >= ATTEMPTS, _free()
    )
    return first(wanted.for_update("FOR UPDATE SKIP LOCKED"))  # type: ignore[arg-type]  # peewee takes the clause


WORN_OUT = Sentence(
    "Reading it was begun {times} times and never came to an end. The file is kept: export it again as plain text, "
    "one drive to a file, or have it checked again.",
    times=ATTEMPTS,
)


@run_again
def next_waiting(most_of_a_shop: int, most_of_a_job: int, passed_over: Collection[int] = ()) -> int | None:
    """The log to import next: of the shop, and in it of the job, of which the fewest are being imported.

    A job is one customer's link. Of those with equal claims one whose files took long of late comes last, then the smaller
    file comes first; within a job they come in their order.

    Args:
        most_of_a_shop: a shop of which so many are under way has to wait, so that there is room for others.
        most_of_a_job: a job, too; one whose files took long of late has one at a time.
        passed_over: logs that somebody else holds just now.
    """
    with unit_of_work():
        busy = LogFile.select(Job.shop, LogFile.job, fn.COUNT(LogFile.id)).join(Job)
        busy = busy.where(LogFile.state == IMPORTING, LogFile.source.is_null(), ~_free()).group_by(
            Job.shop, LogFile.job
        )
        of_shop: Counter[int] = Counter()
        of_job: Counter[int] = Counter()
        for shop, job, number in rows(busy):
            of_shop[shop] += int(number)
            of_job[job] += int(number)
        oldest = LogFile.select(Job.shop, LogFile.job, fn.MIN(LogFile.id).alias("oldest")).join(Job)
        oldest = oldest.where(LogFile.source.is_null(), _free())
        if passed_over:
            oldest = oldest.where(LogFile.id.not_in(list(passed_over)))
        waiting = [(shop, job, int(log_id)) for shop, job, log_id in rows(oldest.group_by(Job.shop, LogFile.job))]
        if not waiting:
            return None
        sizes = dict(rows(LogFile.select(LogFile.id, LogFile.size).where(LogFile.id.in_([one[2] for one in waiting]))))
        slow = _slow_of_late({job for _, job, _ in waiting})
    order = [
        (of_shop[shop], of_job[job], job in slow, sizes[log_id], log_id)
        for shop, job, log_id in waiting
        if of_shop[shop] < most_of_a_shop and of_job[job] < (1 if job in slow else most_of_a_job)
    ]
    return min(order)[-1] if order else None


def _slow_of_late(jobs: Collection[int]) -> set[int]:
    """Jobs a file of which took long to read within the last hour."""
    recent = (LogFile.import_seconds > _LONG_S) & (LogFile.uploaded_at > now() - _LATE)
    query = LogFile.select(LogFile.job).where(LogFile.job.in_(list(jobs)), recent).distinct()
    return {int(job) for (job,) in rows(query)}


@run_again
def note_seconds(log: LogFile, seconds: float) -> None:
    """Note how long the reading of a log took that took long."""
    with unit_of_work():
        LogFile.update(import_seconds=seconds).where(LogFile.id == log.id).execute()


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


def waiting() -> list[int]:
    """Logs not yet imported whose worker, if they had one, is gone."""
    with unit_of_work():
        query = LogFile.select(LogFile.id).where(_free(), LogFile.source.is_null()).order_by(LogFile.id)
        return [log.id for log in query]
