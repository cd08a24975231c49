"""The home queue: jobs by whose move it is and since when."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Request
from fastapi.responses import Response

from uchiwa.core.rounds.progress import Move
from uchiwa.store import live_sessions
from uchiwa.store import queue as store
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render
from uchiwa.web.requests.session import Person
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.queue import QueueRow, queue_rows

router = new_router()
OPEN, AT_REST, FOUND = 60, 12, 60
"""Rows that the queue shows of jobs under work, of jobs at rest, and of what was looked for."""


@dataclass(frozen=True)
class QueueQuery:
    """What of the queue is looked at.

    Attributes:
        q: words to find.
        show: id of the job that the margin shows.
        mine: only jobs that this person has in hand.
        rest: how many pages of jobs at rest are passed over.
    """

    q: str = ""
    show: int | None = None
    mine: bool = False
    rest: int = 0


@router.get("/")
def home(request: Request, user: Person, looked: Annotated[QueueQuery, Depends()]) -> Response:
    """The queue; the margin shows one job of it."""
    q, show, mine, rest = looked.q, looked.show, looked.mine, looked.rest
    search, tuner = q[:100], user.id if mine else None
    skip = max(0, min(rest, 10_000)) * AT_REST
    open_jobs = store.JobFilter(search, closed=False, tuner_id=tuner, limit=OPEN)
    at_rest = store.JobFilter(
        search, closed=True, tuner_id=tuner, limit=FOUND if search.strip() else AT_REST, skip=skip
    )
    with unit_of_work():
        rows = queue_rows(store.queue(user.shop_id, open_jobs, at_rest))
        recording = live_sessions.jobs_recording(user.shop_id)
        open_count, closed_count = store.counts(user.shop_id, tuner)
    groups = [(move, [row for row in rows if row.entry.move is move]) for move in Move]
    ordered = [row for _, members in groups for row in members]
    shown = next((row for row in ordered if row.entry.job.id == show), ordered[0] if ordered else None)
    return render(
        request,
        "home.html",
        user,
        groups=groups,
        shown=shown,
        recording=recording,
        q=q,
        mine=mine,
        rest=max(0, rest),
        top=top_of(rows),
        more_open=0 if search.strip() else max(0, open_count - OPEN),
        more_at_rest=0 if search.strip() else max(0, closed_count - skip - AT_REST),
        counts=(open_count, closed_count),
    )


def top_of(rows: list[QueueRow]) -> float:
    """Upper end of the small error paths' axis, shared by all of them, in %."""
    return max([4.0, *(value for row in rows for value in row.entry.path)])
