"""The sheets of the Spark station over a table: shown, explained by cell, and taken into the draft."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.rounds.progress import Station
from uchiwa.services import spark as work
from uchiwa.store import draft_pins
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.store.three_way import merge, read_seen
from uchiwa.web.drawer.traces import spans_of
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_standing import RoundPage, open_round, round_page
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.spark.page import (
    BASE,
    Asked,
    Fields,
    Looking,
    Seen,
    back,
    chosen_mask,
    empty,
    fragment,
    with_form,
)
from uchiwa.web.stations.spark.sheets import TABLE_SHEETS

router = new_router()
_HERE = BASE + "/{sheet}"
SheetName = Literal["knock", "torque", "limit"]


def _page(request: Request, user: User, page: RoundPage, sheet: SheetName, seen: Looking) -> Response:
    kind = TABLE_SHEETS[sheet]
    try:
        found = kind.work(page.job, page.round, seen.table)
    except BadInput as error:
        return empty(request, user, page, sheet, error)
    template = f"_spark_{sheet}_sheet.html" if fragment(request) else "spark_sheet.html"
    return render(request, template, user, **kind.values(user, page, found, seen))


def _again(request: Request, user: User, job_id: int, number: int, sheet: SheetName, seen: Looking) -> Response:
    """The sheet as it is now: a piece for a script, a new page for a plain form."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        return _page(request, user, page, sheet, seen) if fragment(request) else back(page, sheet, seen)


@router.get(BASE)
def spark(user: Person, job_id: int, number: int) -> Response:
    """To the first sheet."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
    return RedirectResponse(f"{page.path}/spark/knock", 303)


@router.get(_HERE)
def show(request: Request, user: Person, job_id: int, number: int, sheet: SheetName, seen: Asked) -> Response:
    """The sheet and its margin."""
    with unit_of_work():
        return _page(request, user, round_page(user, job_id, number, Station.SPARK), sheet, seen)


@router.get(_HERE + "/cell")
def cell(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    sheet: SheetName,
    i: int,
    j: int,
    seen: Asked,
    chosen: int = 1,
) -> Response:
    """The margin for a cell."""
    kind = TABLE_SHEETS[sheet]
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        found = kind.work(page.job, page.round, seen.table)
        values = kind.values(user, page, found, Looking(seen.view, seen.table, (i, j)), chosen)
        return render(request, f"_spark_{sheet}_margin.html", user, **values)


@router.get(_HERE + "/moments")
def moments(
    user: Person, job_id: int, number: int, sheet: SheetName, i: int, j: int, table: str | None = None
) -> Response:
    """The moments that a cell rests on, on thinned traces of one log."""
    kind = TABLE_SHEETS[sheet]
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        told = spans_of(*kind.moments(kind.work(page.job, page.round, table), i, j))
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
def policy(
    request: Request, user: Person, job_id: int, number: int, sheet: SheetName, form: Fields, seen: Seen
) -> Response:
    """Change the policy."""
    kind = TABLE_SHEETS[sheet]
    with unit_of_work():
        page = open_round(user, job_id, number, Station.SPARK)
        now = work.kept(page.round, sheet, kind.policy).model_dump(mode="json")
        seen_then = read_seen(str(form.get("seen", "")))
        mine = policy_from(kind.policy, with_form(now if seen_then is None else seen_then, form, kind.keys))
        kept = merge(seen_then, mine.model_dump(mode="json"), now, "The policy")
        work.keep(page.round, sheet, policy_from(kind.policy, kept))
    return _again(request, user, job_id, number, sheet, seen)


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
def pin(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    sheet: SheetName,
    cells: Annotated[str, Form()],
    seen: Seen,
) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    with unit_of_work():
        page = open_round(user, job_id, number, Station.SPARK)
        at = work.desk(page.job, page.round, TABLE_SHEETS[sheet].role, seen.table)
        draft_pins.pin(at.draft, at.table.id, set(parse_cells(cells)))
    return _again(request, user, job_id, number, sheet, seen)


@router.post(_HERE + "/take", dependencies=[FromOurForm])
def take(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    sheet: SheetName,
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
    table: Annotated[str | None, Form()] = None,
) -> Response:
    """Take the proposal, or its chosen cells, into the draft."""
    kind = TABLE_SHEETS[sheet]
    with unit_of_work():
        page = open_round(user, job_id, number, Station.SPARK)
        found = kind.work(page.job, page.round, table)
        proposal = found.proposal
        chosen = chosen_mask(cells, proposal.table.shape)
        event = work.take(found.desk, user, version, proposal.after, chosen, kind.taken_as, kind.report(found))
    say(request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/{sheet}?view=change", 303)
