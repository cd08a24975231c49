"""The Review station: the draft against the revision it started from, what is said of it, and the answers."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.review.concern import Weight
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.attribution import by_reason
from uchiwa.core.tables.difference import TableDifference, difference
from uchiwa.services.freezing import inputs_of
from uchiwa.services.review import review_work
from uchiwa.store import answers, calibrations, draft_steps, events, revisions
from uchiwa.store.conflict import ConflictError
from uchiwa.store.models import Event, Round, User
from uchiwa.web.grid.grid import difference_grid
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round, in_round
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/review"


@router.get(_HERE)
@in_round(Station.REVIEW)
def review(page: RoundPage, table: str | None = None) -> Response:
    """What the draft has changed; an ended round shows its revision against the one it was made from."""
    if page.round.returned_at is not None:
        return _ended(page.request, page.user, page, table)
    work = review_work(page.job, page.round)
    shown = _shown(work.change.tables, table)
    seen = work.reviewed.visited.get(shown.table.id) if shown is not None else None
    dwell = seen.dwell if seen is not None and seen.logged else None
    old = {one.id: one for one in work.base.tables}
    return render(
        page.request,
        "review.html",
        page.user,
        page=page,
        draft=work.draft,
        change=work.change,
        shown=shown,
        grid=difference_grid(shown, dwell) if shown is not None else None,
        reasons={
            table_difference.table.id: by_reason(table_difference.table, old[table_difference.table.id], work.steps)
            for table_difference in work.change.tables
        },
        concerns=work.concerns,
        answers=work.answers,
        open=work.open,
        stop=Weight.STOP,
        note=Weight.NOTE,
        steps=list(reversed(work.events)),
        last=draft_steps.undoable(work.events),
        redo=draft_steps.redoable(work.events),
        unseen=int((shown.changed & (dwell <= 0)).sum()) if shown is not None and dwell is not None else 0,
        frozen=None,
        before_number=work.draft.base.number,
    )


def _shown(tables: tuple[TableDifference, ...], wanted: str | None) -> TableDifference | None:
    return next((table for table in tables if table.table.id == wanted), tables[0] if tables else None)


def _ended(request: Request, user: User, page: RoundPage, table: str | None) -> Response:
    frozen = revisions.numbered(page.job, page.round.number)
    if frozen is None:
        raise BadInput("this round ended without a revision")
    parent = revisions.parent_of(frozen)
    before = calibrations.content((parent or frozen).calibration)
    change = difference(before, calibrations.content(frozen.calibration))
    shown = _shown(change.tables, table)
    return render(
        request,
        "review.html",
        user,
        page=page,
        draft=None,
        change=change,
        shown=shown,
        grid=difference_grid(shown, None) if shown is not None else None,
        reasons={},
        concerns=(),
        answers={},
        open=(),
        stop=Weight.STOP,
        note=Weight.NOTE,
        steps=_history(page.round),
        last=None,
        redo=None,
        unseen=0,
        frozen=frozen,
        before_number=parent.number if parent is not None else 0,
        inputs=inputs_of(page.job, frozen),
    )


def _history(round_: Round) -> list[Event]:
    return events.history(round_.job, round_)


@router.post(_HERE + "/put-back", dependencies=[FromOurForm])
@in_open_round(Station.REVIEW)
def put_back(
    page: RoundPage,
    event: Annotated[int, Form()],
    version: Annotated[int, Form()],
) -> Response:
    """Undo the last step taken."""
    draft_steps.put_back(page.acting(version), event)
    say(page.request, "The step is put back. It stays in the history and can be done again.")
    return RedirectResponse(page.path + "/review", 303)


@router.post(_HERE + "/again", dependencies=[FromOurForm])
@in_open_round(Station.REVIEW)
def again(page: RoundPage, version: Annotated[int, Form()]) -> Response:
    """Do the last undone step again."""
    event = draft_steps.redo(page.acting(version))
    say(page.request, f"Done again: {event.sentence}.")
    return RedirectResponse(page.path + "/review", 303)


@router.post(_HERE + "/answer", dependencies=[FromOurForm])
@in_open_round(Station.REVIEW)
def answer(
    page: RoundPage,
    concern: Annotated[str, Form(max_length=24)],
    reason: Annotated[str, Form(max_length=500)] = "",
    take_back: Annotated[bool, Form()] = False,
) -> Response:
    """Accept a concern with a reason, or open it again."""
    if take_back:
        answers.take_back(page.job, concern)
        return RedirectResponse(page.path + "/review", 303)
    work = review_work(page.job, page.round)
    found = next((one for one in work.concerns if one.key == concern), None)
    if found is None:
        raise ConflictError("The draft has changed, and this is no longer said of it. Reload the page.")
    if found.weight is Weight.STOP:
        raise BadInput("this cannot be accepted", advice="mend it in the draft")
    answers.give(page.job, page.round, page.user, found, reason)
    return RedirectResponse(page.path + "/review", 303)
