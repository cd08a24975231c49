"""The Review station: the draft against the revision it started from."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.progress import Station
from uchiwa.core.review import difference
from uchiwa.store import calibrations, drafts, events
from uchiwa.store import jobs as store
from uchiwa.store.database import unit_of_work
from uchiwa.web.grid import difference_grid
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.standing import must_be_open, round_page
from uchiwa.work import fuel as work

router = APIRouter()
_HERE = "/jobs/{job_id}/rounds/{number}/review"


@router.get(_HERE)
def review(request: Request, user: Person, job_id: int, number: int, table: str | None = None) -> Response:
    """What the round has changed; an ended round shows its revision against the one before."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.REVIEW)
        draft = drafts.current(page.job)
        frozen = drafts.revision(page.job, number) if page.round.returned_at is not None else None
        parent = drafts.revision(page.job, number - 1) if frozen is not None else draft.base
        before = calibrations.content(parent.calibration if parent is not None else draft.base.calibration)
        after = calibrations.content(frozen.calibration if frozen is not None else draft.calibration)
        steps = events.history(page.job, page.round)
        change = difference(before, after)
        shown = next(
            (one for one in change.tables if one.table.id == table), change.tables[0] if change.tables else None
        )
        dwell = None
        if shown is not None and frozen is None:
            try:
                dwell = work.fuel_work(page.job, page.round, shown.table.id).proposal.bins.dwell
            except BadInput:
                dwell = None
    taken = [event for event in steps if event.kind == store.TAKE and not event.put_back]
    unseen = int((shown.changed & (dwell <= 0)).sum()) if shown is not None and dwell is not None else 0
    return render(
        request,
        "review.html",
        user,
        page=page,
        draft=draft,
        change=change,
        shown=shown,
        grid=difference_grid(shown, dwell) if shown is not None else None,
        steps=steps,
        last=taken[0] if taken and frozen is None else None,
        unseen=unseen,
        frozen=frozen,
        before_number=number - 1,
    )


@router.post(_HERE + "/put-back", dependencies=[FromOurForm])
def put_back(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    event: Annotated[int, Form()],
    version: Annotated[int, Form()],
) -> Response:
    """Undo the last step taken."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.REVIEW)
        must_be_open(page)
        drafts.put_back(page.job, page.round, user, version, event)
    say(request, "The step is put back. It stays in the history and can be taken again on the Fuel station.")
    return RedirectResponse(page.path + "/review", 303)
