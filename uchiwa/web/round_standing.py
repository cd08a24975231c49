"""Rounds and jobs as pages show them: where each stands, and where its next step is."""

from __future__ import annotations

from dataclasses import dataclass

from fastapi import HTTPException

from uchiwa.core.rounds.progress import OFFERED, RoundFacts, Standing, Station, next_station, standings
from uchiwa.store import jobs as store
from uchiwa.store.jobs import QueueEntry
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job, Round, User

PATHS = {
    Station.BRIEF: "brief",
    Station.LOGS: "logs",
    Station.FUEL: "fuel",
    Station.SPARK: "spark",
    Station.REVIEW: "review",
    Station.RETURN: "return",
}


def address(job_id: int, number: int, station: Station) -> str | None:
    """The address of a station, or None if it is not offered yet."""
    return f"/jobs/{job_id}/rounds/{number}/{PATHS[station]}" if station in OFFERED else None


@dataclass(frozen=True)
class QueueRow:
    """A job of the queue with its fan and its next step."""

    entry: QueueEntry
    standing: dict[Station, Standing]
    next: Station
    href: str

    @property
    def needs_you(self) -> bool:
        """Whether something is wrong that only the tuner can settle."""
        return Standing.NEEDS_YOU in self.standing.values()


def queue_rows(entries: list[QueueEntry]) -> list[QueueRow]:
    """The rows of the queue."""
    rows: list[QueueRow] = []
    for entry in entries:
        station = next_station(entry.facts)
        href = address(entry.job.id, entry.round.number, station)
        rows.append(
            QueueRow(entry, standings(entry.facts, closed=entry.job.closed), station, href or f"/jobs/{entry.job.id}")
        )
    return rows


@dataclass(frozen=True)
class RoundPage:
    """What every page of a round knows."""

    job: Job
    round: Round
    facts: RoundFacts
    standing: dict[Station, Standing]
    here: Station | None
    latest: bool

    def href(self, station: Station) -> str | None:
        """The address of another station of this round."""
        return address(self.job.id, self.round.number, station)

    @property
    def path(self) -> str:
        """The address of the round."""
        return f"/jobs/{self.job.id}/rounds/{self.round.number}"


def job_of(user: User, job_id: int) -> Job:
    """A job of the person's shop.

    Raises:
        HTTPException: 404, for another shop's job as for one that does not exist.
    """
    job = store.find(user.shop_id, job_id)
    if job is None:
        raise HTTPException(404)
    return job


def round_page(user: User, job_id: int, number: int, here: Station | None) -> RoundPage:
    """A round of a job of the person's shop, seen from one of its stations, or from its tables, which are none.

    Raises:
        HTTPException: 404 if there is none.
    """
    job = job_of(user, job_id)
    every = store.rounds(job)
    round_ = next((one for one in every if one.number == number), None)
    if round_ is None:
        raise HTTPException(404)
    facts = store.facts_of([round_])[round_.id]
    standing = standings(facts, here)
    if here is None:
        standing = {one: Standing.TO_COME if how is Standing.HERE else how for one, how in standing.items()}
    return RoundPage(job, round_, facts, standing, here, round_.number == every[-1].number)


def locked_job(user: User, job_id: int) -> Job:
    """A job of the person's shop, which nobody else changes until the transaction ends. Comes first in it.

    Raises:
        HTTPException: 404, as `job_of`.
    """
    if not lock_job(job_id, user.shop_id):
        raise HTTPException(404)
    return job_of(user, job_id)


def locked_round(user: User, job_id: int, number: int, here: Station | None) -> RoundPage:
    """A round of a job that nobody else changes until the transaction ends. Comes first in it.

    Raises:
        HTTPException: 404 if there is none.
    """
    if not lock_job(job_id, user.shop_id):
        raise HTTPException(404)
    return round_page(user, job_id, number, here)


def open_round(user: User, job_id: int, number: int, here: Station | None) -> RoundPage:
    """A locked round that has not ended: what was frozen stays as it is.

    Raises:
        HTTPException: 404 if there is none, 409 if it has ended.
    """
    page = locked_round(user, job_id, number, here)
    if page.round.returned_at is not None:
        raise HTTPException(409, "This round has ended with a revision and cannot be changed any more.")
    return page
