"""The knock sheet: where it knocked, whether it is real, and the spark that goes out."""

from __future__ import annotations

from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Form, HTTPException, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.display import shown_table
from uchiwa.core.editing.cellname import cell_name
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.judgement import Cluster, Verdict
from uchiwa.core.progress import Station
from uchiwa.core.proposals.knock import KnockPolicy
from uchiwa.core.proposals.knock import report as report_of
from uchiwa.core.proposals.read_policy import policy_from
from uchiwa.store import drafts, knock_decisions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.cells import parse_cells
from uchiwa.web.grid import with_heads
from uchiwa.web.liking import liking_of
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.spark_grid import KnockView, knock_grid
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
_HERE = BASE + "/knock"
_KEYS = ("margin", "step", "slope", "widen")
_MOST_EVENTS = 14
_AROUND_S = 1.5


def _view(seen: Looking) -> KnockView:
    return KnockView(seen.view) if seen.view in list(KnockView) else KnockView.RETARD


def _first(found: work.KnockWork) -> tuple[int, int]:
    """The cell to show first: of the gravest knock that counts, else where most time was spent."""
    for cluster in sorted(found.proposal.clusters, key=lambda one: found.holds(one) is Verdict.NOISE):
        worst = max(cluster.events, key=lambda one: one.event.retard)
        return worst.i, worst.j
    dwell = found.proposal.knock.dwell
    j, i = np.unravel_index(int(np.argmax(dwell)), dwell.shape)
    return int(i), int(j)


def _cluster_at(found: work.KnockWork, i: int, j: int) -> Cluster | None:
    return next((one for one in found.proposal.clusters if (i, j) in one.cells), None)


def _values(user: User, page: RoundPage, found: work.KnockWork, seen: Looking, chosen: int = 1) -> dict[str, Any]:
    proposal, at = found.proposal, found.desk
    waiting = at.waiting(proposal.after)
    shown = shown_table(proposal.table, liking_of(user, page.job, at.base))
    i, j = seen.cell_of(proposal.table.shape, _first(found))
    holds = {one.number: found.holds(one) for one in proposal.clusters}
    here = [one for one in proposal.knock.events if (one.i, one.j) == (i, j)]
    view = _view(seen)
    return {
        "page": page,
        "found": found,
        "at": at,
        "proposal": proposal,
        "sheets": SHEETS,
        "sheet": "knock",
        "view": view,
        "views": list(KnockView),
        "tables": choices(at),
        "grid": with_heads(knock_grid(proposal, view, waiting, holds), shown),
        "place": cell_name(shown, i, j, digits=5),
        "i": i,
        "j": j,
        "chosen": chosen,
        "waiting": int(waiting.sum()),
        "waits_here": bool(waiting[j, i]),
        "cluster": _cluster_at(found, i, j),
        "holds": holds,
        "events": here[:_MOST_EVENTS],
        "more": max(len(here) - _MOST_EVENTS, 0),
        "names": [at.row_of(number) for number in range(len(at.on_table))],
        "left_out": [row for row, log in zip(at.rows, at.logs, strict=True) if log not in at.on_table],
        "open_questions": sum(one is Verdict.UNSURE for one in holds.values()),
    }


def _page(request: Request, user: User, page: RoundPage, seen: Looking) -> Response:
    try:
        found = work.knock_work(page.job, page.round, seen.table)
    except BadInput as error:
        return empty(request, user, page, "knock", error)
    template = "_spark_knock_sheet.html" if fragment(request) else "spark_sheet.html"
    return render(request, template, user, **_values(user, page, found, seen))


@router.get(BASE)
def spark(user: Person, job_id: int, number: int) -> Response:
    """To the sheet that has something to show: torque if pulls came, else knock."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
    return RedirectResponse(f"{page.path}/spark/knock", 303)


@router.get(_HERE)
def knock(request: Request, user: Person, job_id: int, number: int, seen: Asked) -> Response:
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
        found = work.knock_work(page.job, page.round, seen.table)
        values = _values(user, page, found, Looking(seen.view, seen.table, (i, j)), chosen)
        return render(request, "_spark_knock_margin.html", user, **values)


@router.get(_HERE + "/moments")
def moments(user: Person, job_id: int, number: int, i: int, j: int, table: str | None = None) -> Response:
    """The events of a cell, or of its cluster, on the traces of the log that has most of them."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        found = work.knock_work(page.job, page.round, table)
        cluster = _cluster_at(found, i, j)
        events = list(cluster.events) if cluster is not None else []
        numbers = [one.log for one in events]
        index = max(set(numbers), key=numbers.count) if numbers else 0
        spans = [(max(one.event.at - _AROUND_S, 0.0), one.event.at + _AROUND_S) for one in events if one.log == index]
        row = found.desk.row_of(index)
        told = spans_of(row, spans, ("knock_retard", "knock_level", "marker", "spark_advance", "engine_speed"))
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
def policy(request: Request, user: Person, job_id: int, number: int, form: Fields, seen: Seen) -> Response:
    """Change how spark is taken out."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        old = work.kept(page.round, "knock", KnockPolicy).model_dump(mode="json")
        work.keep(page.round, "knock", policy_from(KnockPolicy, with_form(old, form, _KEYS)))
    if not fragment(request):
        return back(page, "knock", seen)
    with unit_of_work():
        return _page(request, user, round_page(user, job_id, number, Station.SPARK), seen)


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
    if not fragment(request):
        return back(page, "knock", seen)
    with unit_of_work():
        return _page(request, user, round_page(user, job_id, number, Station.SPARK), seen)


@router.post(_HERE + "/decide", dependencies=[FromOurForm])
def decide(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    cluster: Annotated[str, Form()],
    verdict: Annotated[Verdict, Form()],
    seen: Seen,
    reason: Annotated[str, Form(max_length=300)] = "",
) -> Response:
    """Say what a cluster is; its cells name it, so that a log that came meanwhile cannot turn one into another."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.SPARK)
        must_be_open(page)
        found = work.knock_work(page.job, page.round, seen.table)
        cells = set(parse_cells(cluster))
        one = next((one for one in found.proposal.clusters if set(one.cells) == cells), None)
        if one is None:
            raise HTTPException(
                409, "The knock has changed since you looked, for a log has come. Look again, then decide."
            )
        knock_decisions.decide(page.job, page.round, user, found.desk.table.id, one, verdict, reason)
    words = "left to the judgement" if verdict is Verdict.UNSURE else f"held to be {verdict.value}"
    say(request, f"Knock in {len(cells)} cells is {words}.")
    return back(page, "knock", seen)


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
        found = work.knock_work(page.job, page.round, table)
        inputs = report_of(found.proposal)
        chosen = chosen_mask(cells, found.proposal.table.shape)
        event = work.take(found.desk, user, version, found.proposal.after, chosen, "knock", inputs)
    say(request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/knock?view=change", 303)
