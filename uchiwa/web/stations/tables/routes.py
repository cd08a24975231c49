"""The tables of a draft: looked at as grid, lines and relief, and edited like a spreadsheet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Query
from fastapi.responses import JSONResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.editing.clipboard import Joining
from uchiwa.core.tables.editing.line import VERBS
from uchiwa.services import tables as work
from uchiwa.services import visits
from uchiwa.store import draft_steps, jobs
from uchiwa.web.drawer.moments_picture import Moments, moments_answer, title_of, traces_for
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.table_grid import Showing, as_grid, in_percent
from uchiwa.web.pages import piece, render
from uchiwa.web.round_context import RoundPage, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.tables.constant_routes import constants_page
from uchiwa.web.stations.tables.list import listed
from uchiwa.web.stations.tables.table_view import (
    ADDRESS,
    CONSTANTS,
    cell_values,
    draft_state,
    history_of,
    relief_of,
    table_view,
)
from uchiwa.web.svg.relief import TURNS
from uchiwa.web.svg.table_lines import table_lines

router = new_router()


@router.get(ADDRESS)
@in_round(None)
def tables(
    page: RoundPage,
    table: str | None = None,
    show: str = "",
    cell: str = "",
    turn: int = 0,
) -> Response:
    """The grid of a table with its pictures; or the constants."""
    if table == CONSTANTS:
        return constants_page(page.request, page.user, page)
    view = table_view(page.user, page, table, show)
    found = draft_steps.steps(page.job)
    chosen = parse_cells(cell) if cell.strip() else [(0, view.table.shape[0] - 1)]
    values = cell_values(view, *chosen[0], found)
    shown = view.table
    return render(
        page.request,
        "tables.html",
        page.user,
        page=page,
        view=view,
        table=shown,
        cells=" ".join(f"{i}.{j}" for i, j in chosen),
        was=view.was,
        grid=as_grid(shown, view.drawn()),
        showing=view.showing,
        showings=list(Showing),
        groups=listed(view.work.content, view.work.base),
        alike=work.alike(view.work.content, view.work.table),
        hints={key: verb.words for key, verb in VERBS.items()} | {"was": "back to the revision's value"},
        joinings=list(Joining),
        lines=table_lines(shown, view.was, values["j"]),
        relief=relief_of(view, turn),
        history=history_of(found),
        percent=in_percent(view.was),
        **draft_state(draft_steps.ends_of(found), view),
        **values,
    )


@dataclass(frozen=True)
class CellQuery:
    """The cell that a person looks at, how many are chosen, and how the table is shown."""

    table: str
    i: int
    j: int
    chosen: int = 1
    show: str = ""
    turn: int = 0


@router.get(ADDRESS + "/cell")
@in_round(None)
def cell(page: RoundPage, at: Annotated[CellQuery, Depends()], relief: bool = False) -> Response:
    """What changes when a cell is chosen: margin and lines; with `relief` the relief too, which an edit changes."""
    view = table_view(page.user, page, at.table, at.show)
    found = draft_steps.steps(page.job)
    values = cell_values(view, at.i, at.j, found)
    shown = view.table
    margin = piece(
        page.request, "_table_margin.html", page.user, page=page, table=shown, view=view, chosen=at.chosen,
        history=history_of(found), **draft_state(draft_steps.ends_of(found), view), **values,
    )  # fmt: skip
    lines = piece(
        page.request, "_table_lines.html", page.user, page=page, table=shown, i=values["i"], j=values["j"],
        lines=table_lines(shown, view.was, values["j"]),
    )  # fmt: skip
    surface = relief_of(view, at.turn % TURNS) if relief else None
    pieces = {"margin": margin, "lines": lines}
    if surface is not None:
        pieces["relief"] = piece(page.request, "_table_relief.html", page.user, table=shown, relief=surface)
    return JSONResponse(pieces)


@router.get(ADDRESS + "/moments")
@in_round(None)
def moments(page: RoundPage, table: str, cells: Annotated[str, Query(max_length=400_000)] = "") -> Response:
    """When the engine was in the chosen cells, in the log in which it was there longest."""
    found = work.table_work(page.job, page.round, table)
    chosen = parse_cells(cells)
    best = visits.moments(jobs.spark_logs(page.round), found.table, chosen)
    if best is None:
        raise BadInput("this round has no log", advice="its moments are shown once there is one")
    log, spans = best
    title = title_of(log, spans, f"in {'this cell' if len(chosen) == 1 else 'these cells'}")
    told = Moments(log, spans, traces_for(found.table), title if spans else f"{log.name} was never here")
    return moments_answer(page.request, page, told)
