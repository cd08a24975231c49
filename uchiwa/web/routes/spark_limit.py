"""The knock-limit sheet: the level below which the sensor hears only the engine itself."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.display import shown_table
from uchiwa.core.editing.cellname import cell_name
from uchiwa.core.errors import BadInput
from uchiwa.core.progress import Station
from uchiwa.core.proposals.knock_threshold import ThresholdPolicy
from uchiwa.core.proposals.knock_threshold import report as report_of
from uchiwa.core.proposals.read_policy import policy_from
from uchiwa.store import drafts
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.cells import parse_cells
from uchiwa.web.grid import with_heads
from uchiwa.web.level_picture import level_picture
from uchiwa.web.liking import liking_of
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.spark_grid import TableView, limit_grid
from uchiwa.web.spark_page import (
    BASE,
    SHEETS,
    Asked,
    Fields,
    Looking,
    Seen,
    back,
    choices,
    chosen_mask,
    empty,
    fragment,
    with_form,
)
from uchiwa.web.standing import RoundPage, must_be_open, round_page
from uchiwa.web.traces import spans_of
from uchiwa.work import spark as work

router = APIRouter()
_HERE = BASE + "/limit"
_KEYS = ("quantile", "margin", "least")


def _values(user: User, page: RoundPage, found: work.LimitWork, seen: Looking, chosen: int = 1) -> dict[str, Any]:
    proposal, at = found.proposal, found.desk
    waiting = at.waiting(proposal.after)
    shown = shown_table(proposal.table, liking_of(user, page.job, at.base))
    i, j = seen.cell_of(proposal.table.shape, (0, 0))
    view = TableView(seen.view) if seen.view in list(TableView) else TableView.PROPOSED
    return {
        "page": page,
        "found": found,
        "at": at,
        "proposal": proposal,
        "sheets": SHEETS,
        "sheet": "limit",
        "view": view,
        "views": list(TableView),
        "tables": choices(at),
        "grid": with_heads(limit_grid(proposal, view, waiting), shown),
        "level": level_picture(proposal, j),
        "place": cell_name(shown, i, j, digits=5),
        "i": i,
        "j": j,
        "chosen": chosen,
        "waiting": int(waiting.sum()),
        "waits_here": bool(waiting[j, i]),
    }


def _page(request: Request, user: User, page: RoundPage, seen: Looking) -> Response:
    try:
        found = work.limit_work(page.job, page.round, seen.table)
    except BadInput as error:
        return empty(request, user, page, "limit", error)
    template = "_spark_limit_sheet.html" if fragment(request) else "spark_sheet.html"
    return render(request, template, user, **_values(user, page, found, seen))


@router.get(_HERE)
def limit(request: Request, user: Person, job_id: int, number: int, seen: Asked) -> Response:
    """The sheet and its margin."""
    with unit_of_work():
        return _page(request, user, round_page(user, job_id, number, Station.SPARK), seen)


@router.get(_HERE + "/cell")
def cell(
    request: Request, user: Person, job_id: int, number: int, i: int, j: int, seen: Asked, chosen: int = 1
) -> Response:
    """The margin for a cell."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        found = work.limit_work(page.job, page.round, seen.table)
        values = _values(user, page, found, Looking(seen.view, seen.table, (i, j)), chosen)
        return render(request, "_spark_limit_margin.html", user, **values)


@router.get(_HERE + "/moments")
def moments(user: Person, job_id: int, number: int, table: str | None = None) -> Response:
    """The level and the limit in the first safe log."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        found = work.limit_work(page.job, page.round, table)
        told = spans_of(found.safe[0], [], ("knock_level", "knock_limit", "engine_speed"))
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})


def _again(request: Request, user: User, job_id: int, number: int, seen: Looking) -> Response:
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        return _page(request, user, page, seen) if fragment(request) else back(page, "limit", seen)


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
def policy(request: Request, user: Person, job_id: int, number: int, form: Fields, seen: Seen) -> Response:
    """Change how the limit is set."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        old = work.kept(page.round, "limit", ThresholdPolicy).model_dump(mode="json")
        work.keep(page.round, "limit", policy_from(ThresholdPolicy, with_form(old, form, _KEYS)))
    return _again(request, user, job_id, number, seen)


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
def pin(
    request: Request, user: Person, job_id: int, number: int, cells: Annotated[str, Form()], seen: Seen
) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        at = work.desk(page.job, page.round, "knock_limit", seen.table)
        drafts.pin(at.draft, at.table.id, set(parse_cells(cells)))
    return _again(request, user, job_id, number, seen)


@router.post(_HERE + "/take", dependencies=[FromOurForm])
def take(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
    table: Annotated[str | None, Form()] = None,
) -> Response:
    """Take the proposal, or its chosen cells, into the draft."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        found = work.limit_work(page.job, page.round, table)
        inputs = report_of(found.proposal)
        chosen = chosen_mask(cells, found.proposal.table.shape)
        event = work.take(found.desk, user, version, found.proposal.after, chosen, "knock limit", inputs)
    say(request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/limit?view=change", 303)
