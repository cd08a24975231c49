"""The torque sheet: what a degree is worth, and how much spark may go in."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.display import shown_table
from uchiwa.core.editing.cellname import cell_name
from uchiwa.core.errors import BadInput
from uchiwa.core.progress import Station
from uchiwa.core.proposals.fuel_grade import start_lower
from uchiwa.core.proposals.read_policy import policy_from
from uchiwa.core.proposals.torque_decision import Advice
from uchiwa.core.proposals.torque_policy import TorquePolicy
from uchiwa.core.proposals.torque_report import report as report_of
from uchiwa.core.pulls.trade import trades
from uchiwa.store import drafts
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.cells import parse_cells
from uchiwa.web.grid import with_heads
from uchiwa.web.ladder_picture import hill, ladder
from uchiwa.web.liking import liking_of
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.spark_grid import TableView, torque_grid
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
_HERE = BASE + "/torque"
_KEYS = ("add", "add_far", "far", "most", "beyond", "knock_margin", "worth_percent")


def _first(found: work.TorqueWork) -> tuple[int, int]:
    """The cell to show first: where most spark would move, at the load of the runs."""
    decisions = found.proposal.decisions
    one = max(decisions, key=lambda it: abs(it.after - it.spark))
    table = found.proposal.table
    if table.y is None:
        return one.column, 0
    return one.column, int(table.y.nearest(table.y.breakpoints[:1] * 0 + one.load)[0])


def _values(user: User, page: RoundPage, found: work.TorqueWork, seen: Looking, chosen: int = 1) -> dict[str, Any]:
    proposal, at = found.proposal, found.desk
    waiting = at.waiting(proposal.after)
    shown = shown_table(proposal.table, liking_of(user, page.job, at.base))
    i, j = seen.cell_of(proposal.table.shape, _first(found))
    view = TableView(seen.view) if seen.view in list(TableView) else TableView.CHANGE
    decision = next((one for one in proposal.decisions if one.column == i), None)
    compared = {
        round(one.centre): one for one in trades(proposal.bands, proposal.gains, at.base.constant("displacement"))
    }
    return {
        "page": page,
        "found": found,
        "at": at,
        "proposal": proposal,
        "sheets": SHEETS,
        "sheet": "torque",
        "view": view,
        "views": list(TableView),
        "tables": choices(at),
        "grid": with_heads(torque_grid(proposal, view, waiting), shown),
        "ladder": ladder(proposal),
        "hill": hill(proposal, decision) if decision is not None else None,
        "decision": decision,
        "trade": compared.get(round(decision.speed)) if decision is not None else None,
        "trades": compared,
        "place": cell_name(shown, i, j, digits=5),
        "i": i,
        "j": j,
        "chosen": chosen,
        "waiting": int(waiting.sum()),
        "waits_here": bool(waiting[j, i]),
        "counts": {one: sum(it.advice is one for it in proposal.decisions) for one in Advice},
        "unheard": not proposal.knock.heard,
    }


def _page(request: Request, user: User, page: RoundPage, seen: Looking) -> Response:
    try:
        found = work.torque_work(page.job, page.round, seen.table)
    except BadInput as error:
        return empty(request, user, page, "torque", error)
    template = "_spark_torque_sheet.html" if fragment(request) else "spark_sheet.html"
    return render(request, template, user, **_values(user, page, found, seen))


@router.get(_HERE)
def torque(request: Request, user: Person, job_id: int, number: int, seen: Asked) -> Response:
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
        found = work.torque_work(page.job, page.round, seen.table)
        values = _values(user, page, found, Looking(seen.view, seen.table, (i, j)), chosen)
        return render(request, "_spark_torque_margin.html", user, **values)


@router.get(_HERE + "/moments")
def moments(user: Person, job_id: int, number: int, i: int, table: str | None = None) -> Response:
    """The newest pull through a column, on its traces."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        found = work.torque_work(page.job, page.round, table)
        bands = found.proposal.bands
        runs = [row for row in range(len(found.proposal.pulls)) if bands.torque[row, i] == bands.torque[row, i]]
        pull = found.proposal.pulls[runs[-1] if runs else -1]
        inside = (pull.speed >= bands.edges[i]) & (pull.speed < bands.edges[i + 1])
        spans = [(float(pull.time[inside][0]), float(pull.time[inside][-1]))] if inside.any() else []
        row = next(one for one, log in zip(found.desk.rows, found.desk.logs, strict=True) if log.name == pull.log)
        told = spans_of(
            row, spans, ("wheel_torque", "spark_advance", "knock_retard", "engine_speed", "throttle_position")
        )
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})


def _again(request: Request, user: User, job_id: int, number: int, seen: Looking) -> Response:
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        return _page(request, user, page, seen) if fragment(request) else back(page, "torque", seen)


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
def policy(request: Request, user: Person, job_id: int, number: int, form: Fields, seen: Seen) -> Response:
    """Change how spark is put in."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        old = work.kept(page.round, "torque", TorquePolicy).model_dump(mode="json")
        work.keep(page.round, "torque", policy_from(TorquePolicy, with_form(old, form, _KEYS)))
    return _again(request, user, job_id, number, seen)


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
def pin(
    request: Request, user: Person, job_id: int, number: int, cells: Annotated[str, Form()], seen: Seen
) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        at = work.desk(page.job, page.round, "spark_advance", seen.table)
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
        found = work.torque_work(page.job, page.round, table)
        inputs = report_of(found.proposal)
        chosen = chosen_mask(cells, found.proposal.table.shape)
        event = work.take(found.desk, user, version, found.proposal.after, chosen, "torque", inputs)
    say(request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/torque?view=change", 303)


@router.post(_HERE + "/fuel-grade", dependencies=[FromOurForm])
def fuel_grade(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    version: Annotated[int, Form()],
    points: Annotated[str, Form()],
    degrees: Annotated[str, Form()],
    table: Annotated[str | None, Form()] = None,
) -> Response:
    """Start lower for a worse fuel, by the tuner's own degrees for each octane point."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        at = work.desk(page.job, page.round, "spark_advance", table)
        try:
            worse, each = float(points.replace(",", ".")), float(degrees.replace(",", "."))
        except ValueError as error:
            raise BadInput("octane points and degrees are numbers", advice="write for example 3 and 1.5") from error
        after = start_lower(at.table, worse, each, at.pins)
        inputs = {"points": worse, "degrees_per_point": each, "policy": {}}
        event = work.take(at, user, version, after, None, "fuel grade", inputs)
    say(request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/torque", 303)
