"""Two calibrations of a job side by side, and taking single changes across into the draft."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated
from urllib.parse import urlencode

from fastapi import Depends, Form, UploadFile
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.display import shown_table
from uchiwa.core.tables.difference import difference
from uchiwa.core.tables.editing.transfer import take_constant, take_table
from uchiwa.core.tables.table import Calibration
from uchiwa.services import comparable, tables
from uchiwa.store import calibrations, draft_pins, drafts
from uchiwa.web.account.display_units import display_of
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.table_grid import Showing, as_grid, drawn, in_percent
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.tables.row_change import row_change

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/compare"
LARGEST = 16 * 2**20


@router.get(_HERE)
@in_round(None)
def compare(
    page: RoundPage,
    a: str = "",
    b: str = comparable.DRAFT,
    table: str = "",
    j: int = -1,
) -> Response:
    """What `b` has changed from `a`."""
    draft = drafts.current(page.job)
    first = comparable.side(page.job, a or f"revision:{draft.base.number}")
    second = comparable.side(page.job, b)
    offered = comparable.choices(page.job)
    pinned = draft_pins.pins_of(draft, table)
    change = difference(first.content, second.content)
    shown = next(
        (table_difference for table_difference in change.tables if table_difference.table.id == table),
        change.tables[0] if change.tables else None,
    )
    grid = picture = after = None
    if shown is not None:
        display = display_of(page.user, page.job, second.content)
        after = shown_table(shown.table, display)
        before = shown_table(shown.table.with_grid(shown.before), display)
        grid = as_grid(after, drawn(after, before, None, pinned, Showing.CHANGE))
        row = j if 0 <= j < after.shape[0] else int(shown.changed.sum(axis=1).argmax())
        picture = row_change(after, before, row)
        j = row
    for side in (first, second):
        if side.name not in [name for name, _ in offered]:
            offered.append((side.name, side.words))
    return render(
        page.request,
        "compare.html",
        page.user,
        page=page,
        draft=draft,
        a=first,
        b=second,
        offered=offered,
        change=change,
        shown=shown,
        table=after,
        grid=grid,
        picture=picture,
        j=j,
        percent=shown is not None and in_percent(shown.table.with_grid(shown.before)),
        units={constant.id: constant.unit for constant in second.content.constants},
    )


@router.post(_HERE + "/file", dependencies=[FromOurForm])
@in_round(None)
def file(page: RoundPage, file: UploadFile) -> Response:
    """Keep a file to compare with; it changes nothing in the job."""
    data = file.file.read(LARGEST + 1)
    name = file.filename or "file"
    if not data:
        raise BadInput("no file was chosen", advice="choose a calibration or an image")
    if len(data) > LARGEST:
        raise BadInput(f"a calibration may have up to {LARGEST // 2**20} MiB", where=name)
    kept = calibrations.keep(page.user.shop_id, comparable.read_file(page.job, data, name))
    return RedirectResponse(f"{page.path}/compare?{urlencode({'a': comparable.DRAFT, 'b': f'file:{kept.id}'})}", 303)


@dataclass(frozen=True)
class TakeForm:
    """The form that says what of one side is taken: a table, some of its cells, or a constant."""

    source: Annotated[str, Form(max_length=40)]
    table: Annotated[str, Form(max_length=64)] = ""
    constant: Annotated[str, Form(max_length=64)] = ""
    cells: Annotated[str, Form()] = ""


@router.post(_HERE + "/take", dependencies=[FromOurForm])
@in_open_round(None)
def take(
    page: RoundPage,
    wanted: Annotated[TakeForm, Depends()],
    version: Annotated[int, Form()],
    back: Annotated[str, Form(max_length=400)] = "",
) -> Response:
    """Take a table, some cells of it, or a constant of one side into the draft."""
    source, table, constant, cells = wanted.source, wanted.table, wanted.constant, wanted.cells
    other = comparable.side(page.job, source)
    draft = drafts.current(page.job)
    if constant:
        words = f"Constant {constant} as in {other.words}"
        inputs: dict[str, object] = {"from": source, "constant": constant}

        def change(calibration: Calibration) -> Calibration:
            return take_constant(calibration, other.content, constant)
    else:
        chosen = parse_cells(cells)
        pinned = draft_pins.pins_of(draft, table)
        title = next((one.title for one in other.content.tables if one.id == table), table)
        words = f"{title}: {f'{len(chosen)} cells' if chosen else 'all'} as in {other.words}"
        inputs = {"from": source, "table": table, "cells": chosen}

        def change(calibration: Calibration) -> Calibration:
            return take_table(calibration, other.content, table, chosen, pinned=pinned)

    event = tables.change_content(page.acting(version), change, words, inputs)
    say(page.request, f"{event.sentence}. It is in the draft and can be undone.")
    here = back.startswith(f"{page.path}/compare?")
    return RedirectResponse(back if here else f"{page.path}/compare?b=draft&table={table}", 303)
