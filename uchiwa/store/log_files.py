"""Logs of jobs and shops, whatever their state."""

from __future__ import annotations

from uchiwa.store import log_states
from uchiwa.store.log_states import RECEIVING
from uchiwa.store.models import Car, Job, LogChannel, LogFile, Round
from uchiwa.store.rows import first


def find(job_id: int, log_id: int) -> LogFile | None:
    """A log of a job; None if there is none or it is another job's."""
    return first(LogFile.select().where(LogFile.id == log_id, LogFile.job == job_id))


def arrived(job: Job) -> list[LogFile]:
    """All of a job that have arrived whole."""
    return list(LogFile.select().where(LogFile.job == job, LogFile.state != log_states.RECEIVING))


def being_read(job: Job) -> bool:
    """Whether a log of a job waits to be read, or is being read."""
    states = (log_states.STORED, log_states.IMPORTING)
    return bool(LogFile.select().where(LogFile.job == job, LogFile.state.in_(states)).exists())


def latest_ready(job: Job, most: int) -> list[LogFile]:
    """The newest of a job that can be read, newest first."""
    query = LogFile.select().where(LogFile.job == job, LogFile.state == log_states.READY)
    return list(query.order_by(LogFile.id.desc()).limit(most))


def latest_of_shop(shop_id: int, most: int) -> list[LogFile]:
    """The newest of a shop that can be read, each with its job, car and round, newest first."""
    query = (
        LogFile.select(LogFile, Job, Car, Round)
        .join(Job)
        .join(Car)
        .switch(LogFile)
        .join(Round, on=(LogFile.round == Round.id))
        .where(Job.shop == shop_id, LogFile.state == log_states.READY)
    )
    return list(query.order_by(LogFile.id.desc()).limit(most))


def earlier_baselines(job: Job, round_: Round) -> list[LogFile]:
    """Logs of the car when it ran well, from other rounds of the job."""
    query = LogFile.select().where(LogFile.job == job, LogFile.baseline, LogFile.round != round_)
    return list(query.order_by(LogFile.id))


def mark_baseline(log: LogFile, *, baseline: bool) -> None:
    """Mark a log as one of the car when it runs well, or take the mark off."""
    LogFile.update(baseline=baseline).where(LogFile.id == log.id).execute()


def channels_of(log: LogFile) -> list[LogChannel]:
    """The channels of a log as it was recorded."""
    query = LogChannel.select().where(LogChannel.log == log)
    return list(query.order_by(LogChannel.raster, LogChannel.position))


def with_volts(job: Job) -> int:
    """How many logs of a job hold a raw voltage that a sensor's line can turn into readings."""
    query = LogFile.select(LogFile.id).join(LogChannel).where(LogFile.job == job)
    return int(query.where(LogChannel.quantity.in_(["mixture_voltage", "pressure_voltage"])).distinct().count())


def of_shop(shop_id: int, log_id: int) -> LogFile | None:
    """A log of a shop with its round; None if there is none or it is another shop's."""
    query = LogFile.select(LogFile, Round).join(Round).switch(LogFile).join(Job)
    return first(query.where(LogFile.id == log_id, Job.shop == shop_id, LogFile.state != RECEIVING))
