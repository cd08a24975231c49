"""The sheets of the Spark station over a table: shown, explained by cell, and taken into the draft."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.rounds.progress import Station
from uchiwa.services import spark as work
from uchiwa.store import draft_pins
from uchiwa.store.three_way import merge, read_seen
from uchiwa.web.drawer.moments_picture import moments_answer
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.pages import render, say
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.spark.page import (
    BASE,
    Asked,
    Fields,
    Seen,
    SheetState,
    back,
    chosen_mask,
    empty,
    with_form,
)
from uchiwa.web.stations.spark.sheets import TABLE_SHEETS

router = new_router()
_HERE = BASE + "/{sheet}"
SheetName = Literal["knock", "torque", "limit"]


def _page(request: Request, page: RoundPage, sheet: SheetName, seen: SheetState) -> Response:
    kind = TABLE_SHEETS[sheet]
    try:
        found = kind.work(page.job, page.round, seen.table)
    except BadInput as error:
        return empty(request, page, sheet, error)
    template = f"_spark_{sheet}_sheet.html" if is_fragment(request) else "spark_sheet.html"
    return render(request, template, page.user, **kind.values(page, found, seen))


def _again(request: Request, page: RoundPage, sheet: SheetName, seen: SheetState) -> Response:
    """The sheet as it is now: a piece for a script, a new page for a plain form."""
    return _page(request, page.reloaded(), sheet, seen) if is_fragment(request) else back(page, sheet, seen)


@router.get(BASE)
@in_round(Station.SPARK)
def spark(page: RoundPage) -> Response:
    """To the first sheet."""
    return RedirectResponse(f"{page.path}/spark/knock", 303)


@router.get(_HERE)
@in_round(Station.SPARK)
def show(page: RoundPage, sheet: SheetName, seen: Asked) -> Response:
    """The sheet and its margin."""
    return _page(page.request, page, sheet, seen)


@router.get(_HERE + "/cell")
@in_round(Station.SPARK)
def cell(
    page: RoundPage,
    sheet: SheetName,
    i: int,
    j: int,
    seen: Asked,
    chosen: int = 1,
) -> Response:
    """The margin for a cell."""
    kind = TABLE_SHEETS[sheet]
    found = kind.work(page.job, page.round, seen.table)
    values = kind.values(page, found, SheetState(seen.view, seen.table, (i, j)), chosen)
    return render(page.request, f"_spark_{sheet}_margin.html", page.user, **values)


@router.get(_HERE + "/moments")
@in_round(Station.SPARK)
def moments(page: RoundPage, sheet: SheetName, i: int, j: int, table: str | None = None) -> Response:
    """The moments that a cell rests on, of one log."""
    kind = TABLE_SHEETS[sheet]
    return moments_answer(page.request, page, kind.moments(kind.work(page.job, page.round, table), i, j))


@router.post(_HERE + "/policy", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def policy(page: RoundPage, sheet: SheetName, form: Fields, seen: Seen) -> Response:
    """Change the policy."""
    kind = TABLE_SHEETS[sheet]
    now = work.kept(page.round, sheet, kind.policy).model_dump(mode="json")
    seen_then = read_seen(str(form.get("seen", "")))
    mine = policy_from(kind.policy, with_form(now if seen_then is None else seen_then, form, kind.keys))
    kept = merge(seen_then, mine.model_dump(mode="json"), now, "The policy")
    work.keep(page.round, sheet, policy_from(kind.policy, kept))
    return _again(page.request, page, sheet, seen)


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def pin(
    page: RoundPage,
    sheet: SheetName,
    cells: Annotated[str, Form()],
    seen: Seen,
) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    at = work.context(page.job, page.round, TABLE_SHEETS[sheet].role, seen.table)
    draft_pins.pin(at.draft, at.table.id, set(parse_cells(cells)))
    return _again(page.request, page, sheet, seen)


@router.post(_HERE + "/take", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def take(
    page: RoundPage,
    sheet: SheetName,
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
    table: Annotated[str | None, Form()] = None,
) -> Response:
    """Take the proposal, or its chosen cells, into the draft."""
    kind = TABLE_SHEETS[sheet]
    found = kind.work(page.job, page.round, table)
    proposal = found.proposal
    chosen = chosen_mask(cells, proposal.table.shape)
    event = work.take(found.context, page.user, version, proposal.after, chosen, kind.taken_as, kind.report(found))
    say(page.request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/{sheet}?view=change", 303)
