"""The routes of a sheet over a table: shown, explained by cell, pinned, and taken into the draft."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.services import table_proposals as work
from uchiwa.store import draft_pins
from uchiwa.store.three_way import merge, read_seen
from uchiwa.web.drawer.moments_picture import moments_answer
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.pages import render, say
from uchiwa.web.proposal_sheets.sheet import SheetStation, TableSheet
from uchiwa.web.proposal_sheets.state import Asked, Fields, Seen, SheetState, back, chosen_mask, with_form
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round, in_round

ROUND = "/jobs/{job_id}/rounds/{number}"


def add_sheet(router: APIRouter, of: SheetStation, kind: TableSheet) -> None:
    """Add the routes of a sheet, under its station's address and its own key."""
    _add_looking(router, of, kind)
    _add_changing(router, of, kind)


def _shown(of: SheetStation, kind: TableSheet, page: RoundPage, seen: SheetState) -> Response:
    """A sheet and its margin, or the sheet alone for a script; what is wanting, if it cannot be shown."""
    try:
        found = kind.work(page.job, page.round, seen.table)
    except BadInput as error:
        return of.empty(page.request, page, kind.key, error)
    pieces = _pieces(of, kind)
    template = f"{pieces}_sheet.html" if is_fragment(page.request) else "sheet_page.html"
    values = {**of.values(kind.key), **kind.values(page, found, seen), "pieces": pieces}
    return render(page.request, template, page.user, **values)


def _pieces(of: SheetStation, kind: TableSheet) -> str:
    """What the names of a sheet's own templates begin with."""
    return f"_{of.path}_{kind.key.replace('-', '_')}"


def _add_looking(router: APIRouter, of: SheetStation, kind: TableSheet) -> None:
    """Routes that change nothing."""
    here, station, key = f"{ROUND}/{of.path}/{kind.key}", of.station, kind.key

    @router.get(here)
    @in_round(station)
    def show(page: RoundPage, seen: Asked) -> Response:
        """The sheet and its margin."""
        return _shown(of, kind, page, seen)

    @router.get(here + "/cell")
    @in_round(station)
    def cell(page: RoundPage, i: int, j: int, seen: Asked, chosen: int = 1) -> Response:
        """The margin for a cell."""
        found = kind.work(page.job, page.round, seen.table)
        values = kind.values(page, found, SheetState(seen.view, seen.table, (i, j)), chosen)
        pieces = _pieces(of, kind)
        return render(page.request, f"{pieces}_margin.html", page.user, **of.values(key), **values, pieces=pieces)

    @router.get(here + "/moments")
    @in_round(station)
    def moments(page: RoundPage, i: int, j: int, table: str | None = None) -> Response:
        """The moments that a cell rests on, of one log."""
        return moments_answer(page.request, page, kind.moments(kind.work(page.job, page.round, table), i, j))

    if kind.left_out is not None:
        told = kind.left_out

        @router.get(here + "/left-out")
        @in_round(station)
        def left_out(page: RoundPage, reason: str, table: str | None = None) -> Response:
            """The moments that a reason leaves out, of the log that lost most to it."""
            return moments_answer(page.request, page, told(kind.work(page.job, page.round, table), reason))


def _add_changing(router: APIRouter, of: SheetStation, kind: TableSheet) -> None:
    """Routes that change the policy, the pins or the draft."""
    here, station, key = f"{ROUND}/{of.path}/{kind.key}", of.station, kind.key

    def again(page: RoundPage, seen: SheetState) -> Response:
        """The sheet as it is now: a piece for a script, a new page for a plain form."""
        if is_fragment(page.request):
            return _shown(of, kind, page.reloaded(), seen)
        return back(page, f"{of.path}/{key}", seen)

    @router.post(here + "/policy", dependencies=[FromOurForm])
    @in_open_round(station)
    def policy(page: RoundPage, form: Fields, seen: Seen) -> Response:
        """Change the policy."""
        now = work.kept(page.round, key, kind.policy).model_dump(mode="json")
        seen_then = read_seen(str(form.get("seen", "")))
        given = with_form(now if seen_then is None else seen_then, form, kind.keys, kind.switches)
        mine = policy_from(kind.policy, given)
        kept = merge(seen_then, mine.model_dump(mode="json"), now, "The policy")
        work.keep(page.round, key, policy_from(kind.policy, kept))
        return again(page, seen)

    @router.post(here + "/pin", dependencies=[FromOurForm])
    @in_open_round(station)
    def pin(page: RoundPage, cells: Annotated[str, Form()], seen: Seen) -> Response:
        """Pin the chosen cells, or free them if all of them are pinned."""
        at = work.context(page.job, page.round, kind.asked, seen.table)
        draft_pins.pin(at.draft, at.table.id, set(parse_cells(cells)))
        return again(page, seen)

    @router.post(here + "/take", dependencies=[FromOurForm])
    @in_open_round(station)
    def take(
        page: RoundPage,
        version: Annotated[int, Form()],
        cells: Annotated[str, Form()] = "",
        table: Annotated[str | None, Form()] = None,
    ) -> Response:
        """Take the proposal, or its chosen cells, into the draft."""
        found = kind.work(page.job, page.round, table)
        chosen = chosen_mask(cells, found.proposal.table.shape)
        taking = kind.taking(found, chosen)
        event = work.take(page.acting(version), found.context, taking, kind.report(found))
        say(page.request, f"Taken into the draft. {event.sentence}.")
        return RedirectResponse(f"{page.path}/{of.path}/{key}?view={kind.after_taking}", 303)
