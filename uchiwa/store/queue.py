"""The queue: a shop's jobs by whose move it is, and since when."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime

from peewee import JOIN, fn

from uchiwa.core.rounds.progress import Move, RoundFacts, whose_move
from uchiwa.store.jobs import facts_of
from uchiwa.store.models import Car, Customer, Job, LogFile, Round, User
from uchiwa.store.rows import rows

_NAMES = 3


@dataclass(frozen=True)
class QueueEntry:
    """A job as the home queue shows it."""

    job: Job
    round: Round
    facts: RoundFacts
    move: Move
    sentence: str
    detail: str
    path: tuple[float, ...]
    since: datetime


def _detail(facts: RoundFacts, round_: Round, logs: list[str]) -> str:
    if facts.logs_refused and not facts.logs_ready:
        return facts.last_refusal
    if facts.taken and round_.cells:
        return f"{round_.cells_within} of {round_.cells} driven cells were within ±2 %"
    return told_logs(logs)


def told_logs(names: Collection[str]) -> str:
    """The first three names of logs, each once with how often it is there, and how many logs there are beside them."""
    shown = list(Counter(names).items())[:_NAMES]
    more = len(names) - sum(number for _, number in shown)
    told = " · ".join(name if number == 1 else f"{name} ×{number}" for name, number in shown)
    return f"{told} and {more} more" if more else told


_SHOWN = (
    Job.id, Job.shop, Job.car, Job.closed, Job.moved_at, Job.tuner, Car.id, Car.customer, Car.title, Car.details, Customer.id,
    Customer.name, Customer.email, Customer.reminders_off, User.id, User.name,
)  # fmt: skip
"""What is shown of jobs; the texts of their cars and setups are not asked for."""


@dataclass(frozen=True)
class JobFilter:
    """Which jobs of a shop are wanted.

    Attributes:
        search: only those with this in the names of car, customer or a log.
        closed: only those at rest, the one closed last first, or only those that are not.
        moved_before: only those that have stood since then.
        tuner_id: only those that this person has in hand.
        limit: so many at most.
        skip: after so many.
    """

    search: str = ""
    closed: bool | None = None
    moved_before: datetime | None = None
    tuner_id: int | None = None
    limit: int | None = None
    skip: int = 0


def queue(shop_id: int, *several: JobFilter) -> list[QueueEntry]:
    """Jobs of a shop with where they stand, longest waiting first; each of several wishes costs one query, all else is shared."""
    found = [job for wanted in several or (JobFilter(),) for job in _jobs(shop_id, wanted)]
    return _entries(found)


def _jobs(shop_id: int, wanted: JobFilter) -> list[Job]:
    query = Job.select(*_SHOWN).join(Car).join(Customer)
    query = query.switch(Job).join(User, JOIN.LEFT_OUTER, on=Job.tuner).where(Job.shop == shop_id)
    if wanted.closed is not None:
        query = query.where(Job.closed == wanted.closed)
    if wanted.moved_before is not None:
        query = query.where(Job.moved_at <= wanted.moved_before)
    if wanted.tuner_id is not None:
        query = query.where(Job.tuner == wanted.tuner_id)
    text = wanted.search.strip()
    if text:
        # Read from the index of jobs and names alone: a log's own row is long.
        with_log = LogFile.select(LogFile.job).join(Job).where(Job.shop == shop_id, LogFile.name.contains(text))
        query = query.where(Car.title.contains(text) | Customer.name.contains(text) | Job.id.in_(with_log))
    order = Job.moved_at.desc() if wanted.closed else Job.moved_at
    return list(query.order_by(order, Job.id).limit(wanted.limit).offset(wanted.skip or None))


def _entries(found: list[Job]) -> list[QueueEntry]:
    if not found:
        return []
    newest: dict[int, int] = {}
    paths: dict[int, list[float]] = {}
    every = Round.select(Round.id, Round.job, Round.error_percent).where(Round.job.in_([job.id for job in found]))
    for round_id, job_id, error in rows(every.order_by(Round.number)):
        newest[job_id] = round_id
        if error is not None:
            paths.setdefault(job_id, []).append(error)
    ids = list(newest.values())
    latest = {one.job_id: one for one in Round.select().where(Round.id.in_(ids))}
    facts = facts_of(latest.values())
    names: dict[int, list[str]] = {}
    of_logs = LogFile.select(LogFile.round, LogFile.name).where(LogFile.round.in_(ids), LogFile.accepted)
    for round_id, name in rows(of_logs.order_by(LogFile.id)):
        names.setdefault(round_id, []).append(name)
    entries: list[QueueEntry] = []
    for job in found:
        round_ = latest[job.id]
        move, sentence = whose_move(facts[round_.id], closed=job.closed)
        detail = _detail(facts[round_.id], round_, names.get(round_.id, []))
        path = tuple(paths.get(job.id, ()))
        entries.append(QueueEntry(job, round_, facts[round_.id], move, sentence, detail, path, job.moved_at))
    return entries


def counts(shop_id: int, tuner_id: int | None = None) -> tuple[int, int]:
    """How many jobs of a shop, or of one of its people, are under work, and how many at rest."""
    query = Job.select(Job.closed, fn.COUNT(Job.id)).where(Job.shop == shop_id).group_by(Job.closed)
    if tuner_id is not None:
        query = query.where(Job.tuner == tuner_id)
    found = {bool(closed): int(number) for closed, number in rows(query)}
    return found.get(False, 0), found.get(True, 0)
