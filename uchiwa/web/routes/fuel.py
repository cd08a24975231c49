"""The Fuel station: evidence, proposal, policy, and taking it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any
from urllib.parse import urlencode

import numpy as np
from fastapi import APIRouter, Depends, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.conditions import RULES, sentence_of, switchable, title_of
from uchiwa.core.errors import BadInput
from uchiwa.core.log import BoolArray
from uchiwa.core.progress import Station
from uchiwa.core.proposals.correction import cells_mask
from uchiwa.core.proposals.fuel import TARGET_PERCENT
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.proposals.why import CellAccount, explain
from uchiwa.store.database import unit_of_work
from uchiwa.web.cells import parse_cells
from uchiwa.web.draw import spread_picture
from uchiwa.web.grid import View, fuel_grid
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.sieve import sieve_parts
from uchiwa.web.standing import RoundPage, must_be_open, round_page
from uchiwa.web.traces import moments_of, traces_for
from uchiwa.work import fuel as work

router = APIRouter()
_HERE = "/jobs/{job_id}/rounds/{number}/fuel"


def _values(page: RoundPage, fuel: work.FuelWork, view: View) -> dict[str, Any]:
    """What the sheet needs."""
    proposal = fuel.proposal
    waiting = fuel.to_take
    reached = proposal.reached
    within = np.abs(proposal.bins.mean - 1) * 100 <= TARGET_PERCENT
    return {
        "page": page,
        "fuel": fuel,
        "view": view,
        "views": list(View),
        "grid": fuel_grid(proposal, view, waiting),
        "policy": proposal.policy,
        "sieve": sieve_parts(proposal.evidence),
        "waiting": int(waiting.sum()),
        "changed": int((proposal.correction.after != proposal.table.grid).sum()),
        "driven": int(reached.sum()),
        "within": int((reached & within).sum()),
    }


def _sheet(request: Request, user: Person, page: RoundPage, view: View, table: str | None) -> Response:
    template = "_fuel_sheet.html" if "x-fragment" in request.headers else "fuel.html"
    try:
        fuel = work.fuel_work(page.job, page.round, table)
        known = {one.id: one for one in work.fuel_tables(fuel.base)}
        values = _values(page, fuel, view) | {"tables": list(known.values())}
    except BadInput as error:
        return render(request, "fuel_empty.html", user, page=page, problem=str(error))
    account, picture = _account(fuel, *_first_cell(fuel))
    return render(
        request, template, user, account=account, picture=picture, chosen=1, sentence_of=sentence_of, **values
    )


def _first_cell(fuel: work.FuelWork) -> tuple[int, int]:
    """The cell to show first, as (j, i): where the error weighs most."""
    bins = fuel.proposal.bins
    weight = np.where(fuel.proposal.reached, np.abs(bins.mean - 1) * np.sqrt(bins.dwell), -1.0)
    j, i = np.unravel_index(int(np.argmax(weight)), weight.shape)
    return int(j), int(i)


def _account(fuel: work.FuelWork, j: int, i: int) -> tuple[CellAccount, Any]:
    account = explain(fuel.proposal, j, i)
    return account, spread_picture(account, 388, 64)


@router.get(_HERE)
def fuel(
    request: Request, user: Person, job_id: int, number: int, view: View = View.ERROR, table: str | None = None
) -> Response:
    """The sheet and its margin."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.FUEL)
        return _sheet(request, user, page, view, table)


@router.get(_HERE + "/cell")
def cell(
    request: Request, user: Person, job_id: int, number: int, i: int, j: int, chosen: int = 1, table: str | None = None
) -> Response:
    """The margin for a cell."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.FUEL)
        found = work.fuel_work(page.job, page.round, table)
    account, picture = _account(found, j, i)
    values = _values(page, found, View.ERROR)
    return render(
        request,
        "_fuel_margin.html",
        user,
        account=account,
        picture=picture,
        chosen=chosen,
        sentence_of=sentence_of,
        **values,
    )


@router.get(_HERE + "/moments")
def moments(user: Person, job_id: int, number: int, i: int, j: int, table: str | None = None) -> Response:
    """The moments that fed a cell, on thinned traces of the log that gave most of them."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.FUEL)
        found = work.fuel_work(page.job, page.round, table)
        account = explain(found.proposal, j, i)
        share = max(account.logs, key=lambda one: one.samples, default=None)
        index = found.proposal.evidence.names.index(share.name) if share is not None else 0
        told = moments_of(found.logs[index], account, index, traces_for(found.proposal.table))
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})


def _form_policy(old: Policy, form: dict[str, str]) -> Policy:
    """The policy with what a form says about it."""
    data = old.model_dump(mode="json")
    for key, value in form.items():
        if key in Policy.model_fields and key not in {"pinned", "only", "without", "delay"}:
            data[key] = value.replace(",", ".")
    return Policy.read(data, "policy")


@dataclass(frozen=True)
class Seen:
    """What the person was looking at when they sent a form."""

    view: View
    table: str | None


def _seen(view: Annotated[str, Form()] = "", table: Annotated[str | None, Form()] = None) -> Seen:
    return Seen(View(view) if view in list(View) else View.ERROR, table)


Looking = Annotated[Seen, Depends(_seen)]


def _back(request: Request, user: Person, job_id: int, number: int, seen: Seen) -> Response:
    """The sheet as it is now: a piece for a script, a new page for a plain form."""
    if "x-fragment" not in request.headers:
        asked = urlencode({"view": seen.view} | ({"table": seen.table} if seen.table else {}))
        return RedirectResponse(f"/jobs/{job_id}/rounds/{number}/fuel?{asked}", 303)
    with unit_of_work():
        return _sheet(request, user, round_page(user, job_id, number, Station.FUEL), seen.view, seen.table)


async def _fields(request: Request) -> dict[str, str]:
    return {key: value for key, value in (await request.form()).items() if isinstance(value, str)}


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
def policy(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    form: Annotated[dict[str, str], Depends(_fields)],
    seen: Looking,
) -> Response:
    """Change the policy."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.FUEL)
        must_be_open(page)
        work.keep_policy(page.round, _form_policy(work.policy_of(page.round), form))
    return _back(request, user, job_id, number, seen)


@router.post(_HERE + "/rule", dependencies=[FromOurForm])
def rule(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    rule: Annotated[str, Form()],
    on: Annotated[bool, Form()],
    seen: Looking,
) -> Response:
    """Switch a rule of the sieve on or off."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.FUEL)
        must_be_open(page)
        if not switchable(rule):
            raise BadInput(f"“{title_of(rule)}” cannot be switched off")
        old = work.policy_of(page.round)
        off = set(old.without) - {rule} if on else set(old.without) | {rule}
        kept = [one.id for one in RULES if one.id in off]
        work.keep_policy(page.round, Policy.read(old.model_dump(mode="json") | {"without": kept}))
    return _back(request, user, job_id, number, seen)


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
def pin(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    cells: Annotated[str, Form()],
    seen: Looking,
) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.FUEL)
        must_be_open(page)
        chosen = set(parse_cells(cells))
        old = work.policy_of(page.round)
        pinned = set(old.pinned)
        now_pinned = pinned - chosen if chosen <= pinned else pinned | chosen
        work.keep_policy(page.round, Policy.read(old.model_dump(mode="json") | {"pinned": sorted(now_pinned)}))
    return _back(request, user, job_id, number, seen)


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
        page = round_page(user, job_id, number, Station.FUEL)
        must_be_open(page)
        found = work.fuel_work(page.job, page.round, table)
        chosen: BoolArray | None = None
        if cells.strip():
            chosen = cells_mask(tuple(parse_cells(cells)), found.proposal.table.shape, default=False)
        event = work.take(page.job, page.round, user, version, found, chosen)
    say(request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(page.path + "/fuel?view=proposed", 303)
