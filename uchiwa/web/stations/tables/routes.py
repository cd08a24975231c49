"""The tables of a draft: looked at as grid, lines and relief, and edited like a spreadsheet."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request
from fastapi.responses import JSONResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.editing.clipboard import Joining
from uchiwa.core.tables.editing.line import VERBS
from uchiwa.services import tables as work
from uchiwa.services import visits
from uchiwa.store import draft_steps, jobs
from uchiwa.store.database import unit_of_work
from uchiwa.web.drawer.traces import spans_of, traces_for
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.table_grid import Showing, as_grid, in_percent
from uchiwa.web.pages import render
from uchiwa.web.requests.session import Person
from uchiwa.web.round_standing import round_page
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
def tables(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    table: str | None = None,
    show: str = "",
    cell: str = "",
    turn: int = 0,
) -> Response:
    """The grid of a table with its pictures; or the constants."""
    with unit_of_work():
        page = round_page(user, job_id, number, None)
        if table == CONSTANTS:
            return constants_page(request, user, page)
        view = table_view(user, page, table, show)
        found = draft_steps.steps(page.job)
        chosen = parse_cells(cell) if cell.strip() else [(0, view.table.shape[0] - 1)]
        values = cell_values(view, *chosen[0], found)
    shown = view.table
    return render(
        request,
        "tables.html",
        user,
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
        hints={key: one.words for key, one in VERBS.items()} | {"was": "back to the revision's value"},
        joinings=list(Joining),
        lines=table_lines(shown, view.was, values["j"]),
        relief=relief_of(view, turn),
        history=history_of(found),
        percent=in_percent(view.was),
        **draft_state(found, view),
        **values,
    )


@router.get(ADDRESS + "/cell")
def cell(
    request: Request, user: Person, job_id: int, number: int, table: str, i: int, j: int, chosen: int = 1
) -> Response:
    """The margin for a cell."""
    with unit_of_work():
        page = round_page(user, job_id, number, None)
        view = table_view(user, page, table, "")
        found = draft_steps.steps(page.job)
        values = cell_values(view, i, j, found)
    return render(
        request, "_table_margin.html", user, page=page, table=view.table, view=view, chosen=chosen,
        history=history_of(found), **draft_state(found, view), **values,
    )  # fmt: skip


@router.get(ADDRESS + "/pictures")
def pictures(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    table: str,
    j: int = 0,
    i: int = 0,
    show: str = "",
    turn: int = 0,
) -> Response:
    """Lines and relief as they are now."""
    with unit_of_work():
        page = round_page(user, job_id, number, None)
        view = table_view(user, page, table, show)
    shown = view.table
    row = min(max(j, 0), shown.shape[0] - 1)
    return render(
        request,
        "_table_pictures.html",
        user,
        page=page,
        table=shown,
        lines=table_lines(shown, view.was, row),
        relief=relief_of(view, turn % TURNS),
        i=i,
        j=row,
    )


@router.get(ADDRESS + "/moments")
def moments(
    user: Person, job_id: int, number: int, table: str, cells: Annotated[str, Query(max_length=400_000)] = ""
) -> Response:
    """When the engine was in the chosen cells, on traces of the log in which it was there longest."""
    with unit_of_work():
        page = round_page(user, job_id, number, None)
        found = work.table_work(page.job, page.round, table)
        best = visits.moments(jobs.spark_logs(page.round), found.table, parse_cells(cells))
        if best is None:
            raise BadInput("this round has no log", advice="its moments are shown once there is one")
        told = spans_of(best[0], best[1], traces_for(found.table))
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})
