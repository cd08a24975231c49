"""Edits of a table: the cell line, pasting, undo and redo, pins, breakpoints."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Annotated, Any

import numpy as np
from fastapi import Depends, Form, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.display import scale_of
from uchiwa.core.tables.editing.breakpoints import read_breakpoints
from uchiwa.core.tables.editing.clipboard import Joining
from uchiwa.services import tables as work
from uchiwa.store import draft_steps, revisions
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.pages import say
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.tables.table_view import ADDRESS, TableView, draft_state, table_view

router = new_router()


@dataclass(frozen=True)
class EditRequest:
    """What every edit's form says: what it is done to, and what the person looks at."""

    table: Annotated[str, Form(max_length=64)]
    version: Annotated[int, Form()]
    cells: Annotated[str, Form()] = ""
    why: Annotated[str, Form(max_length=200)] = ""
    show: Annotated[str, Form()] = ""

    @property
    def chosen(self) -> list[tuple[int, int]]:
        """The cells that are chosen."""
        return parse_cells(self.cells)


AskedEdit = Annotated[EditRequest, Depends()]


@dataclass(frozen=True)
class Edit:
    """An edit under way: the round, what was asked, and the table before it."""

    request: Request
    page: RoundPage
    asked: EditRequest
    before: TableView

    @property
    def editor(self) -> work.Editor:
        """Who edits, and how."""
        return work.Editor(self.page.acting(self.asked.version, self.asked.why), self.before.display)

    def answer(self, after: work.TableWork, said: str, **more: Any) -> Response:
        """The cells that look different now, for a script; the page, for a plain form."""
        if not is_fragment(self.request):
            say(self.request, said)
            return RedirectResponse(f"{self.page.path}/tables?table={self.asked.table}&show={self.asked.show}", 303)
        view = replace(self.before, work=after)
        same = self.before.table.shape == view.table.shape
        cells = self.before.drawn().changed(view.drawn()) if same else []
        state = draft_state(draft_steps.ends(self.page.job), view)
        return JSONResponse(state | {"said": said, "cells": cells, "reload": not same} | more)


def _begin(request: Request, page: RoundPage, asked: EditRequest) -> Edit:
    return Edit(request, page, asked, table_view(page.user, page, asked.table, asked.show))


@router.post(ADDRESS + "/edit", dependencies=[FromOurForm])
@in_open_round(None)
def edit(page: RoundPage, asked: AskedEdit, line: Annotated[str, Form(max_length=500)] = "") -> Response:
    """Apply the cell line to the chosen cells."""
    one = _begin(page.request, page, asked)
    done = work.edit(one.editor, one.before.work, asked.chosen, line)
    return one.answer(done.after, done.event.sentence)


@router.post(ADDRESS + "/paste", dependencies=[FromOurForm])
@in_open_round(None)
def paste(
    page: RoundPage,
    asked: AskedEdit,
    text: Annotated[str, Form()] = "",
    joining: Annotated[str, Form()] = Joining.REPLACE,
) -> Response:
    """Paste tab-separated text at the chosen cells."""
    if joining not in list(Joining):
        raise BadInput("pasted numbers replace, add or multiply", advice="choose one of them")
    one = _begin(page.request, page, asked)
    done = work.paste(one.editor, one.before.work, asked.chosen, text, Joining(joining))
    at = [] if done.chosen is None else [[int(i), int(j)] for j, i in np.argwhere(done.chosen)]
    return one.answer(done.after, done.event.sentence, chosen=at)


@router.post(ADDRESS + "/undo", dependencies=[FromOurForm])
@in_open_round(None)
def undo(page: RoundPage, asked: AskedEdit) -> Response:
    """Put back the last step."""
    one = _begin(page.request, page, asked)
    done = work.undo(one.editor, one.before.work)
    return one.answer(done.after, f"Undone: {done.event.sentence}")


@router.post(ADDRESS + "/redo", dependencies=[FromOurForm])
@in_open_round(None)
def redo(page: RoundPage, asked: AskedEdit) -> Response:
    """Do the last undone step again."""
    one = _begin(page.request, page, asked)
    done = work.redo(one.editor, one.before.work)
    return one.answer(done.after, f"Done again: {done.event.sentence}")


@router.post(ADDRESS + "/pin", dependencies=[FromOurForm])
@in_open_round(None)
def pin(page: RoundPage, asked: AskedEdit) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    if not asked.chosen:
        raise BadInput("no cell is chosen", advice="choose cells on the grid first")
    one = _begin(page.request, page, asked)
    after, are_pinned = work.toggle_pins(one.before.work, asked.chosen)
    count = f"{len(asked.chosen)} cell{'s' if len(asked.chosen) != 1 else ''}"
    return one.answer(after, f"{count} {'pinned' if are_pinned else 'freed'}.")


@router.post(ADDRESS + "/breakpoints", dependencies=[FromOurForm])
@in_open_round(None)
def breakpoints(
    page: RoundPage,
    asked: AskedEdit,
    x: Annotated[str, Form(max_length=4000)],
    y: Annotated[str, Form(max_length=4000)] = "",
    others: Annotated[bool, Form()] = False,
) -> Response:
    """Give a table other breakpoints, its values read off between the old ones."""
    view = table_view(page.user, page, asked.table, asked.show)
    table = view.work.table
    along = scale_of(table.x.unit, view.display).stored(read_breakpoints(x, table.x.title))
    up = None
    if table.y is not None:
        up = scale_of(table.y.unit, view.display).stored(read_breakpoints(y, table.y.title))
    ids = [table.id, *(one.id for one in work.alike(view.work.content, table) if others)]
    event = work.change_breakpoints(page.acting(asked.version, asked.why), ids, along, up)
    if is_fragment(page.request):
        return JSONResponse({"reload": True})
    say(page.request, event.sentence)
    return RedirectResponse(f"{page.path}/tables?table={asked.table}&show={asked.show}", 303)


@router.post(ADDRESS + "/go-back", dependencies=[FromOurForm])
@in_open_round(None)
def go_back(
    page: RoundPage,
    revision: Annotated[int, Form()],
    version: Annotated[int, Form()],
) -> Response:
    """Make the draft what an earlier revision was."""
    event = revisions.go_back(page.acting(version), revision)
    say(page.request, f"{event.sentence}. It is one step and can be undone.")
    return RedirectResponse(f"{page.path}/review", 303)
