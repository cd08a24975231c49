"""Jobs and their rounds, and the facts that say where each stands."""

from __future__ import annotations

import json
from collections.abc import Collection
from functools import lru_cache
from typing import Any, Literal

from peewee import IntegrityError, fn

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.regions import Region
from uchiwa.core.rounds.convergence import RegionError
from uchiwa.core.rounds.progress import RoundFacts
from uchiwa.core.tables.table import Calibration
from uchiwa.core.words.plain_text import one_line
from uchiwa.store import calibrations, events, moves
from uchiwa.store.clock import now
from uchiwa.store.log_states import IMPORTING, READY, RECEIVING, REFUSED, STORED
from uchiwa.store.models import Car, Customer, Draft, Event, FoundInLog, Job, LogFile, Revision, Round, User
from uchiwa.store.names import name_kept
from uchiwa.store.rows import first, rows

TAKE, SPARK, IDLE, CLAMP, EDIT = "take", "spark", "idle", "clamp", "edit"
STEPS = (TAKE, SPARK, IDLE, CLAMP, EDIT)
"""Kinds of events that change the draft and can be undone."""


class SentTwiceError(RuntimeError):
    """A form has been sent before, and what it asks for is done."""


def customer_named(shop_id: int, name: str) -> Customer:
    """A shop's customer of this name, made if it is new."""
    name = name_kept(name, "A customer")
    number = (
        Customer.insert(shop=shop_id, name=name)
        .on_conflict(update={Customer.id: fn.LAST_INSERT_ID(Customer.id)})
        .execute()
    )
    return Customer(id=number, shop=shop_id, name=name)


def create(
    author: User,
    customer_name: str,
    car_title: str,
    details: str,
    base: Calibration,
    file: CarFile | None = None,
    once: str | None = None,
    came_with: Calibration | None = None,
    origin: str = "",
) -> Job:
    """Take on a car: customer, car with its file, revision 0, a draft of it, and the first round.

    Args:
        base: what the car gets as revision 0.
        once: names the form that asks for it; a form that is sent twice makes one job.
        came_with: what the base was made from, if it is a start map that the car does not run yet.
        origin: of that, in words.

    Raises:
        SentTwiceError: this form has made a job already, which `of_form` finds in the next transaction.
    """
    stored = calibrations.keep(author.shop_id, base)
    customer = customer_named(author.shop_id, customer_name)
    car = Car.create(
        customer=customer,
        title=name_kept(car_title, "A car"),
        details=one_line(details)[:200],
        file=(file or car_of(base)).model_dump_json(),
    )
    try:
        job = Job.create(shop=author.shop_id, car=car, moved_at=now(), once=once or None)
    except IntegrityError as error:
        raise SentTwiceError from error
    notes = "As delivered." if came_with is None else f"A start map, made from {origin}."
    revision = Revision.create(
        job=job,
        number=0,
        calibration=stored,
        author=author,
        notes=notes,
        frozen_at=now(),
        start_map=came_with is not None,
    )
    Draft.create(job=job, base=revision, calibration=stored)
    round_ = Round.create(job=job, number=1, opened_at=now())
    first_of = stored if came_with is None else calibrations.keep(author.shop_id, came_with)
    words = f"Took on the car with {origin or f'“{base.title}”'}"
    events.record(job, "start", words, author=author, round_=round_, after=first_of)
    return job


def of_form(shop_id: int, once: str | None) -> Job | None:
    """The job that a form has made, if it has."""
    return Job.get_or_none(Job.shop == shop_id, Job.once == once) if once else None


def car_of(base: Calibration) -> CarFile:
    """What a calibration itself tells of its car: displacement, cylinders, injectors, and how air is metered."""
    cylinders = base.constant("cylinders")
    tables = base.by_role("volumetric_efficiency")
    pressures = [table.y for table in tables if table.y is not None and table.y.unit in ("kPa", "1")]
    top = max((float(axis.breakpoints[-1]) / (1.0 if axis.unit == "1" else 100.0) for axis in pressures), default=1.0)
    curves = base.by_role("maf_curve")
    meter: Literal["none", "frequency", "voltage"] = "none"
    if curves:
        meter = "voltage" if curves[0].x.unit == "V" else "frequency"
    told: dict[str, Any] = {
        "displacement": base.constant("displacement"),
        "cylinders": int(cylinders) if cylinders else 4,
        "aspiration": "turbo" if top > 1.1 else "natural",
        "air_model": "blended" if curves and tables else "meter" if curves else "speed_density",
        "injector_flow": base.constant("injector_flow"),
        "injector_dead_time": base.constant("injector_dead_time"),
        "meter": meter,
    }
    return CarFile.read({key: value for key, value in told.items() if _can_be(key, value)})


def _can_be(key: str, value: Any) -> bool:
    """Whether a car can have this; a constant of a calibration may be anything, and then it is left for a person."""
    try:
        CarFile.read({key: value})
    except BadInput:
        return False
    return True


def find(shop_id: int, job_id: int) -> Job | None:
    """A job of a shop with its car and customer; None if there is none or it is another shop's."""
    query = Job.select(Job, Car, Customer).join(Car).join(Customer)
    return first(query.where(Job.id == job_id, Job.shop == shop_id))


def recent(shop_id: int, most: int) -> list[Job]:
    """A shop's open jobs with their cars, those moved last first."""
    query = Job.select(Job, Car, Customer).join(Car).join(Customer)
    return list(query.where(Job.shop == shop_id, ~Job.closed).order_by(Job.moved_at.desc()).limit(most))


def page_of(shop_id: int, after: int, most: int, *, closed: bool) -> list[Job]:
    """A shop's jobs with their cars by id, those that follow one."""
    query = Job.select(Job, Car, Customer).join(Car).join(Customer)
    return list(query.where(Job.shop == shop_id, Job.closed == closed, Job.id > after).order_by(Job.id).limit(most))


def latest_rounds(job_ids: Collection[int]) -> dict[int, Round]:
    """The round under work of each job, in one query."""
    if not job_ids:
        return {}
    query = Round.select().where(Round.job.in_(list(job_ids))).order_by(Round.number)
    return {round_.job_id: round_ for round_ in query}


def rounds(job: Job) -> list[Round]:
    """A job's rounds, oldest first; they know the job."""
    found = list(Round.select().where(Round.job == job).order_by(Round.number))
    for round_ in found:
        round_.job = job
    return found


def moved(job: Job) -> None:
    """Note that the move passed just now."""
    moves.passed(job.id)


def facts_of(rounds_: Collection[Round]) -> dict[int, RoundFacts]:
    """The facts of rounds by id, in five queries for any number of them."""
    ids = [round_.id for round_ in rounds_]
    if not ids:
        return {}
    counted: dict[tuple[int, str], int] = {}
    query = (
        LogFile.select(LogFile.round, LogFile.state, fn.COUNT(LogFile.id))
        .where(LogFile.round.in_(ids), LogFile.accepted)
        .group_by(LogFile.round, LogFile.state)
    )
    for round_id, state, number in rows(query):
        counted[round_id, state] = number
    unfit: dict[int, int] = {}
    dynos: dict[int, int] = {}
    for row in (
        LogFile.select(LogFile.id, LogFile.round, LogFile.accepted, LogFile.decided, LogFile.dyno)
        .where(LogFile.round.in_(ids), LogFile.state == READY)
        .order_by(LogFile.id)
    ):
        if row.accepted and row.dyno:
            dynos[row.round_id] = dynos.get(row.round_id, 0) + 1
        if row.decided:
            continue
        if row.accepted:
            unfit[row.round_id] = 0
        else:
            unfit[row.round_id] = unfit.get(row.round_id, 0) + 1
    taken: dict[int, int] = {}
    by_kind: dict[tuple[int, str], int] = {}
    steps = (
        Event.select(Event.round, Event.kind, fn.COUNT(Event.id))
        .where(Event.round.in_(ids), Event.kind.in_(STEPS), ~Event.put_back)
        .group_by(Event.round, Event.kind)
    )
    for round_id, kind, number in rows(steps):
        taken[round_id] = taken.get(round_id, 0) + number
        by_kind[round_id, kind] = number
    refusals = {
        row.round_id: row.message
        for row in LogFile.select(LogFile.round, LogFile.message)
        .where(LogFile.round.in_(ids), LogFile.state == REFUSED, LogFile.accepted)
        .order_by(LogFile.id)
    }
    sent = _sent([round_.job_id for round_ in rounds_])
    runs = {round_.id: _running(round_, sent) for round_ in rounds_}
    return {
        round_.id: RoundFacts(
            number=round_.number,
            running=getattr(runs[round_.id], "number", 0),
            carried=_carried(runs[round_.id]),
            briefed=bool(round_.brief),
            purpose=_purpose(round_.brief),
            logs_unfit=unfit.get(round_.id, 0),
            logs_ready=counted.get((round_.id, READY), 0),
            logs_reading=counted.get((round_.id, STORED), 0) + counted.get((round_.id, IMPORTING), 0),
            logs_refused=counted.get((round_.id, REFUSED), 0),
            logs_dyno=dynos.get(round_.id, 0),
            taken=taken.get(round_.id, 0),
            sparked=by_kind.get((round_.id, SPARK), 0),
            idled=by_kind.get((round_.id, IDLE), 0),
            frozen=round_.returned_at is not None,
            last_refusal=refusals.get(round_.id, ""),
        )
        for round_ in rounds_
    }


@lru_cache(maxsize=1000)
def _purpose(brief: str) -> str:
    """Of a stored brief; that of fuel where there is none."""
    return str(json.loads(brief).get("purpose", "fuel")) if brief else "fuel"


def _sent(job_ids: Collection[int]) -> dict[int, list[Revision]]:
    """The revisions of jobs that are not withdrawn, oldest first."""
    found: dict[int, list[Revision]] = {}
    fields = (
        Revision.id,
        Revision.job,
        Revision.number,
        Revision.downloaded_at,
        Revision.flashed_at,
        Revision.start_map,
    )
    query = Revision.select(*fields).where(Revision.job.in_(list(job_ids)), Revision.withdrawn_at.is_null())
    for revision in query.order_by(Revision.number):
        found.setdefault(revision.job_id, []).append(revision)
    return found


def _running(round_: Round, sent: dict[int, list[Revision]]) -> Revision | None:
    before = [revision for revision in sent.get(round_.job_id, []) if revision.number < round_.number]
    return before[-1] if before else None


def _carried(revision: Revision | None) -> str:
    if revision is None or (revision.number == 0 and not revision.start_map):
        return ""
    return "flashed" if revision.flashed_at else "downloaded" if revision.downloaded_at else "sent"


def regions_of(round_: Round) -> tuple[RegionError, ...]:
    """What a round's logs showed by region."""
    return tuple(RegionError(**{**entry, "region": Region(entry["region"])}) for entry in json.loads(round_.regions))


def round_logs(round_: Round) -> list[LogFile]:
    """The logs of a round in the order in which they came; uploads that have not arrived whole are not among them."""
    return list(LogFile.select().where(LogFile.round == round_, LogFile.state != RECEIVING).order_by(LogFile.id))


def usable_logs(round_: Round) -> list[LogFile]:
    """The logs of a round that are accepted and ready, without a dyno's, which tell of full load only."""
    return [log for log in spark_logs(round_) if not log.dyno]


def usable_by_round(job: Job) -> dict[int, list[LogFile]]:
    """By number of their round, the logs of a job that are accepted and ready, without a dyno's; in one query."""
    query = (
        LogFile.select(LogFile, Round.number)
        .join(Round)
        .where(LogFile.job == job, LogFile.accepted, LogFile.state == READY, ~LogFile.dyno)
    )
    found: dict[int, list[LogFile]] = {}
    for log in query.order_by(Round.number, LogFile.id):
        found.setdefault(log.round.number, []).append(log)
    return found


def spark_logs(round_: Round) -> list[LogFile]:
    """The logs of a round that are accepted and ready, a dyno's too."""
    return [log for log in round_logs(round_) if log.accepted and log.state == READY]


def earlier_logs(job: Job, round_: Round, most: int) -> list[LogFile]:
    """The newest accepted logs of a job's earlier rounds, a dyno's too; oldest first."""
    query = (
        LogFile.select()
        .join(Round)
        .where(LogFile.job == job, Round.number < round_.number, LogFile.accepted, LogFile.state == READY)
    )
    return list(query.order_by(LogFile.id.desc()).limit(most))[::-1]


def close(job: Job, author: User, *, closed: bool) -> None:
    """Lay a job to rest, or take it up again."""
    Job.update(closed=closed, moved_at=now()).where(Job.id == job.id).execute()
    events.record(job, "close" if closed else "reopen", "Job closed" if closed else "Taken up again", author=author)


def drop(job: Job) -> None:
    """Remove a job with its car and all that belongs to it."""
    Draft.delete().where(Draft.job == job).execute()
    Event.delete().where(Event.job == job).execute()
    Revision.update(parent=None).where(Revision.job == job).execute()
    Car.delete().where(Car.id == job.car_id).execute()


def latest_number(job_id: int) -> int:
    """The number of a job's round under work."""
    return int(Round.select(fn.MAX(Round.number)).where(Round.job == job_id).scalar() or 1)


def hand_over(job: Job, by: User, to: User | None) -> None:
    """Give a locked job into somebody's hands, or into nobody's."""
    Job.update(tuner=to).where(Job.id == job.id).execute()
    words = f"Handed to {to.name}" if to is not None else "In nobody's hands"
    events.record(job, "hand", words, author=by, round_=rounds(job)[-1])


def knock_seen(round_: Round) -> int:
    """In how many accepted logs of a round a check found knock."""
    query = FoundInLog.select(fn.COUNT(FoundInLog.log.distinct())).join(LogFile)
    return int(
        query.where(LogFile.round == round_, LogFile.accepted, FoundInLog.rule.startswith("knock")).scalar() or 0
    )
