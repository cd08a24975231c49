"""The queue: a shop's jobs by whose move it is, and since when."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from peewee import JOIN, fn

from uchiwa.core.rounds.progress import Move, RoundFacts, whose_move
from uchiwa.store.jobs import facts_of
from uchiwa.store.models import Car, Customer, Job, LogFile, Round, User
from uchiwa.store.rows import rows


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
    return " · ".join(logs[:3]) + (f" and {len(logs) - 3} more" if len(logs) > 3 else "")


def queue(
    shop_id: int,
    search: str = "",
    *,
    closed: bool | None = None,
    moved_before: datetime | None = None,
    tuner_id: int | None = None,
    limit: int | None = None,
    skip: int = 0,
) -> list[QueueEntry]:
    """Jobs of a shop with where they stand, longest waiting first; in a fixed number of queries.

    Args:
        search: only those with this in the names of car, customer or a log.
        closed: only those at rest, the one closed last first, or only those that are not.
        moved_before: only those that have stood since then.
        tuner_id: only those that this person has in hand.
        limit: so many at most.
        skip: after so many.
    """
    query = Job.select(Job, Car, Customer, User).join(Car).join(Customer)
    query = query.switch(Job).join(User, JOIN.LEFT_OUTER, on=Job.tuner).where(Job.shop == shop_id)
    if closed is not None:
        query = query.where(Job.closed == closed)
    if moved_before is not None:
        query = query.where(Job.moved_at <= moved_before)
    if tuner_id is not None:
        query = query.where(Job.tuner == tuner_id)
    if search.strip():
        text = search.strip()
        with_log = LogFile.select(LogFile.job).where(LogFile.name.contains(text))
        query = query.where(Car.title.contains(text) | Customer.name.contains(text) | Job.id.in_(with_log))
    found = list(
        query.order_by(Job.moved_at.desc() if closed else Job.moved_at, Job.id).limit(limit).offset(skip or None)
    )
    ids = [job.id for job in found]
    every = list(Round.select().where(Round.job.in_(ids)).order_by(Round.number)) if found else []
    latest = {one.job_id: one for one in every}
    paths: dict[int, list[float]] = {}
    for one in every:
        if one.error_percent is not None:
            paths.setdefault(one.job_id, []).append(one.error_percent)
    facts = facts_of(latest.values())
    names: dict[int, list[str]] = {}
    if latest:
        ids = [one.id for one in latest.values()]
        for log in LogFile.select(LogFile.round, LogFile.name).where(LogFile.round.in_(ids), LogFile.accepted):
            names.setdefault(log.round_id, []).append(log.name)
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
