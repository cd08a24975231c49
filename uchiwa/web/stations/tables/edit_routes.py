"""Edits of a table: the cell line, pasting, undo and redo, pins, breakpoints."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
from fastapi import Depends, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.display import scale_of
from uchiwa.core.tables.editing.breakpoints import read_breakpoints
from uchiwa.core.tables.editing.clipboard import Joining
from uchiwa.services import tables as work
from uchiwa.store import draft_pins, draft_steps, revisions
from uchiwa.store.database import unit_of_work
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.pages import say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_standing import RoundPage, open_round, round_page
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.tables.table_view import ADDRESS, TableView, draft_state, table_view

router = new_router()


@dataclass(frozen=True)
class EditRequest:
    """What every edit's form says."""

    table: str
    version: int
    cells: list[tuple[int, int]]
    why: str
    show: str


def _edit_request(
    table: Annotated[str, Form(max_length=64)],
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
    why: Annotated[str, Form(max_length=200)] = "",
    show: Annotated[str, Form()] = "",
) -> EditRequest:
    return EditRequest(table, version, parse_cells(cells), why, show)


AskedEdit = Annotated[EditRequest, Depends(_edit_request)]


def _answer(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    edited: EditRequest,
    before: TableView | None,
    said: str,
    **more: Any,
) -> Response:
    """The cells that look different now, for a script; the page, for a plain form."""
    if "x-fragment" not in request.headers:
        say(request, said)
        return RedirectResponse(f"/jobs/{job_id}/rounds/{number}/tables?table={edited.table}&show={edited.show}", 303)
    with unit_of_work():
        page = round_page(user, job_id, number, None)
        after = table_view(user, page, edited.table, edited.show)
        found = draft_steps.steps(page.job)
    same = before is not None and before.table.shape == after.table.shape
    cells = before.drawn().changed(after.drawn()) if before is not None and same else []
    return JSONResponse(draft_state(found, after) | {"said": said, "cells": cells, "reload": not same} | more)


def _before(user: Person, page: RoundPage, edited: EditRequest) -> TableView:
    return table_view(user, page, edited.table, edited.show)


@router.post(ADDRESS + "/edit", dependencies=[FromOurForm])
def edit(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    edited: AskedEdit,
    line: Annotated[str, Form(max_length=500)] = "",
) -> Response:
    """Apply the cell line to the chosen cells."""
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        before = _before(user, page, edited)
        event = work.edit(
            page.job, page.round, user, edited.version, edited.table, edited.cells, line, edited.why, before.liking
        )
    return _answer(request, user, job_id, number, edited, before, event.sentence)


@router.post(ADDRESS + "/paste", dependencies=[FromOurForm])
def paste(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    edited: AskedEdit,
    text: Annotated[str, Form()] = "",
    joining: Annotated[str, Form()] = Joining.REPLACE,
) -> Response:
    """Paste tab-separated text at the chosen cells."""
    if joining not in list(Joining):
        raise BadInput("pasted numbers replace, add or multiply", advice="choose one of them")
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        before = _before(user, page, edited)
        event, where = work.paste(
            page.job,
            page.round,
            user,
            edited.version,
            edited.table,
            edited.cells,
            text,
            Joining(joining),
            edited.why,
            before.liking,
        )
    at = [[int(i), int(j)] for j, i in np.argwhere(where.chosen)]
    return _answer(request, user, job_id, number, edited, before, event.sentence, chosen=at)


@router.post(ADDRESS + "/undo", dependencies=[FromOurForm])
def undo(request: Request, user: Person, job_id: int, number: int, edited: AskedEdit) -> Response:
    """Put back the last step."""
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        before = _before(user, page, edited)
        event = draft_steps.undo(page.job, page.round, user, edited.version)
    return _answer(request, user, job_id, number, edited, before, f"Undone: {event.sentence}")


@router.post(ADDRESS + "/redo", dependencies=[FromOurForm])
def redo(request: Request, user: Person, job_id: int, number: int, edited: AskedEdit) -> Response:
    """Do the last undone step again."""
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        before = _before(user, page, edited)
        event = draft_steps.redo(page.job, page.round, user, edited.version)
    return _answer(request, user, job_id, number, edited, before, f"Done again: {event.sentence}")


@router.post(ADDRESS + "/pin", dependencies=[FromOurForm])
def pin(request: Request, user: Person, job_id: int, number: int, edited: AskedEdit) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    if not edited.cells:
        raise BadInput("no cell is chosen", advice="choose cells on the grid first")
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        before = _before(user, page, edited)
        rows, columns = before.work.table.shape
        inside = {(i, j) for i, j in edited.cells if i < columns and j < rows}
        now_pinned = draft_pins.keep_pins(before.work.draft, edited.table, set(before.work.pinned), inside)
    count = f"{len(inside)} cell{'s' if len(inside) != 1 else ''}"
    return _answer(request, user, job_id, number, edited, before, f"{count} {'pinned' if now_pinned else 'freed'}.")


@router.post(ADDRESS + "/breakpoints", dependencies=[FromOurForm])
def breakpoints(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    edited: AskedEdit,
    x: Annotated[str, Form(max_length=4000)],
    y: Annotated[str, Form(max_length=4000)] = "",
    others: Annotated[bool, Form()] = False,
) -> Response:
    """Give a table other breakpoints, its values read off between the old ones."""
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        view = _before(user, page, edited)
        table = view.work.table
        along = scale_of(table.x.unit, view.liking).stored(read_breakpoints(x, table.x.title))
        up = None
        if table.y is not None:
            up = scale_of(table.y.unit, view.liking).stored(read_breakpoints(y, table.y.title))
        ids = [table.id, *(one.id for one in work.alike(view.work.content, table) if others)]
        event = work.change_breakpoints(page.job, page.round, user, edited.version, ids, along, up, edited.why)
    return _answer(request, user, job_id, number, edited, None, event.sentence)


@router.post(ADDRESS + "/go-back", dependencies=[FromOurForm])
def go_back(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    revision: Annotated[int, Form()],
    version: Annotated[int, Form()],
) -> Response:
    """Make the draft what an earlier revision was."""
    with unit_of_work():
        page = open_round(user, job_id, number, None)
        event = revisions.go_back(page.job, page.round, user, version, revision)
    say(request, f"{event.sentence}. It is one step and can be undone.")
    return RedirectResponse(f"{page.path}/review", 303)
