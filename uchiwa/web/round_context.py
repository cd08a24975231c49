"""Rounds and jobs as pages show them: where each stands, where its next step is, and routes that are about one."""

from __future__ import annotations

import functools
import inspect
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Concatenate, ParamSpec, TypeVar

from fastapi import HTTPException, Request

from uchiwa.core.rounds.progress import RoundFacts, Station, StationState, standings
from uchiwa.store import jobs as store
from uchiwa.store.acting import Acting
from uchiwa.store.database import unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job, Round, User
from uchiwa.web.requests.session import Person

PATHS = {
    Station.BRIEF: "brief",
    Station.LOGS: "logs",
    Station.FUEL: "fuel",
    Station.SPARK: "spark",
    Station.IDLE: "idle",
    Station.REVIEW: "review",
    Station.RETURN: "return",
}


def address(job_id: int, number: int, station: Station) -> str:
    """The address of a station."""
    return f"/jobs/{job_id}/rounds/{number}/{PATHS[station]}"


@dataclass(frozen=True)
class RoundPage:
    """What every page of a round knows; `user` is who looks at it, `request` what was asked."""

    request: Request
    user: User
    job: Job
    round: Round
    facts: RoundFacts
    standing: dict[Station, StationState]
    here: Station | None
    latest: bool

    def reloaded(self) -> RoundPage:
        """As it is now, after something was changed."""
        return round_page(self.request, self.user, self.job.id, self.round.number, self.here)

    def href(self, station: Station) -> str:
        """The address of another station of this round."""
        return address(self.job.id, self.round.number, station)

    def acting(self, version: int, why: str = "") -> Acting:
        """Who looks at it, as the one who changes the draft."""
        return Acting(self.job, self.round, self.user, version, why)

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


def round_page(request: Request, user: User, job_id: int, number: int, here: Station | None) -> RoundPage:
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
        standing = {
            station: StationState.TO_COME if how is StationState.HERE else how for station, how in standing.items()
        }
    return RoundPage(request, user, job, round_, facts, standing, here, round_.number == every[-1].number)


def locked_job(user: User, job_id: int) -> Job:
    """A job of the person's shop, which nobody else changes until the transaction ends. Comes first in it.

    Raises:
        HTTPException: 404, as `job_of`.
    """
    if not lock_job(job_id, user.shop_id):
        raise HTTPException(404)
    return job_of(user, job_id)


def locked_round(request: Request, user: User, job_id: int, number: int, here: Station | None) -> RoundPage:
    """A round of a job that nobody else changes until the transaction ends. Comes first in it.

    Raises:
        HTTPException: 404 if there is none.
    """
    if not lock_job(job_id, user.shop_id):
        raise HTTPException(404)
    return round_page(request, user, job_id, number, here)


def open_round(request: Request, user: User, job_id: int, number: int, here: Station | None) -> RoundPage:
    """A locked round that has not ended: what was frozen stays as it is.

    Raises:
        HTTPException: 404 if there is none, 409 if it has ended.
    """
    page = locked_round(request, user, job_id, number, here)
    if page.round.returned_at is not None:
        raise HTTPException(409, "This round has ended with a revision and cannot be changed any more.")
    return page


Given = ParamSpec("Given")
Answer = TypeVar("Answer")
_Find = Callable[[Request, User, int, int, Station | None], RoundPage]


def _about_a_round(
    find: _Find, here: Station | None
) -> Callable[[Callable[Concatenate[RoundPage, Given], Answer]], Callable[..., Answer]]:
    """A route whose first argument is a round: found, and all of the route run, in one transaction."""

    def wrap(route: Callable[Concatenate[RoundPage, Given], Answer]) -> Callable[..., Answer]:
        @functools.wraps(route)
        def run(
            request: Request, user: User, job_id: int, number: int, *args: Given.args, **kwargs: Given.kwargs
        ) -> Answer:
            with unit_of_work():
                return route(find(request, user, job_id, number, here), *args, **kwargs)

        asked = list(inspect.signature(route, eval_str=True).parameters.values())[1:]
        named: dict[str, Any] = {"request": Request, "user": Person, "job_id": int, "number": int}
        found = [inspect.Parameter(key, inspect.Parameter.KEYWORD_ONLY, annotation=kind) for key, kind in named.items()]
        rest = [parameter.replace(kind=inspect.Parameter.KEYWORD_ONLY) for parameter in asked]
        run.__signature__ = inspect.Signature([*found, *rest])  # type: ignore[attr-defined]
        return run

    return wrap


def in_round(
    here: Station | None,
) -> Callable[[Callable[Concatenate[RoundPage, Given], Answer]], Callable[..., Answer]]:
    """A route that looks at a round, given as its first argument, from one of its stations; see `round_page`."""
    return _about_a_round(round_page, here)


def in_open_round(
    here: Station | None,
) -> Callable[[Callable[Concatenate[RoundPage, Given], Answer]], Callable[..., Answer]]:
    """A route that changes a round that has not ended; nobody else changes the job meanwhile. See `open_round`."""
    return _about_a_round(open_round, here)


def in_locked_round(
    here: Station | None,
) -> Callable[[Callable[Concatenate[RoundPage, Given], Answer]], Callable[..., Answer]]:
    """A route that changes what belongs to a round even after its end; see `locked_round`."""
    return _about_a_round(locked_round, here)
