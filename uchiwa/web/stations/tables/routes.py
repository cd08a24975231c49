"""The tables of a draft: looked at as grid, lines and relief, and edited like a spreadsheet."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

import numpy as np
from fastapi import Depends, Form, Query, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.display import Liking, scale_of, shown_table, value_scale
from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.attribution import cell_steps
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.editing.breakpoints import read_breakpoints
from uchiwa.core.tables.editing.clipboard import Joining
from uchiwa.core.tables.editing.line import VERBS
from uchiwa.core.tables.editing.transfer import set_constant
from uchiwa.core.tables.table import Table
from uchiwa.services import tables as work
from uchiwa.services import visits
from uchiwa.store import draft_pins, draft_steps, jobs, revisions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Event
from uchiwa.web.account.display_units import liking_of
from uchiwa.web.drawer.traces import spans_of, traces_for
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.grid import one_hue
from uchiwa.web.pages import ago, render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_standing import RoundPage, open_round, round_page
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.tables.grid import Drawn, Showing, as_grid, differences, diverging_steps, drawn, in_percent
from uchiwa.web.stations.tables.lines import table_lines
from uchiwa.web.stations.tables.list import listed
from uchiwa.web.svg.relief import TURNS, ReliefPicture, relief

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/tables"
CONSTANTS = "constants"


@dataclass(frozen=True)
class Sight:
    """A table as a person sees it."""

    work: work.TableWork
    liking: Liking
    showing: Showing

    @property
    def table(self) -> Table:
        """In the units that are shown."""
        return shown_table(self.work.table, self.liking)

    @property
    def was(self) -> Table | None:
        """The revision's, in the units that are shown."""
        return shown_table(self.work.was, self.liking) if self.work.was is not None else None

    def drawn(self) -> Drawn:
        """Its cells."""
        visited = self.work.visits.visited if self.work.visits is not None else None
        return drawn(self.table, self.was, visited, self.work.pinned, self.showing)


def _sight(user: Person, page: RoundPage, table: str | None, showing: str) -> Sight:
    found = work.table_work(page.job, page.round, table)
    liking = liking_of(user, page.job, found.content)
    return Sight(found, liking, Showing(showing) if showing in list(Showing) else Showing.VALUE)


def _step_words(event: Event | None) -> str:
    return event.sentence if event is not None else ""


def _history(found: list[Event]) -> list[dict[str, Any]]:
    """The steps, newest first, as the margin lists them."""
    return [
        {
            "id": one.id,
            "sentence": one.sentence,
            "kind": one.kind,
            "undone": one.put_back,
            "who": one.author.name if one.author_id else "",
            "when": ago(one.at),
        }
        for one in reversed(found)
    ]


def _relief(sight: Sight, turn: int) -> ReliefPicture | None:
    table = sight.table
    if table.y is None or min(table.shape) < 2:
        return None
    visits = sight.work.visits
    seen = visits.visited.dwell > 0 if visits is not None and visits.visited.logged else np.ones(table.shape, np.bool_)
    trail = None
    if visits is not None and visits.trail.size:
        axes = (sight.work.table.x, sight.work.table.y)
        scales = [scale_of(one.unit, sight.liking) for one in axes if one is not None]
        trail = np.column_stack([one.shown(visits.trail[:, at]) for at, one in enumerate(scales)])
    change = differences(table, sight.was)
    if sight.showing is Showing.CHANGE and change is not None:
        percent = in_percent(sight.was)
        reach = max(float(np.abs(change).max()), 3.0 if percent else 1.0)
        fill = lambda value: str(diverging_steps(np.array(value), percent)) or "flat"  # noqa: E731
        return relief(table, change, (-reach, reach), fill, seen, turn, trail)
    low, high = float(table.grid.min()), float(table.grid.max())
    span = (high - low) or 1.0
    return relief(table, table.grid, (low, high), lambda value: one_hue((value - low) / span), seen, turn, trail)


def _cell_values(sight: Sight, i: int, j: int, found: list[Event]) -> dict[str, Any]:
    """What the margin says of a cell."""
    table, was, visits = sight.table, sight.was, sight.work.visits
    rows, columns = table.shape
    i, j = min(max(i, 0), columns - 1), min(max(j, 0), rows - 1)
    scale = value_scale(sight.work.table, sight.liking)
    change = differences(table, was)
    steps = cell_steps(table.id, i, j, draft_steps.as_steps(found))
    places = table.decimals

    def shown(value: float) -> str:
        return f"{scale.shown(np.array(value)).item():.{places}f}".replace("-", "−")

    seen = visits.visited if visits is not None and visits.visited.logged else None
    return {
        "i": i,
        "j": j,
        "value": f"{table.grid[j, i]:.{places}f}".replace("-", "−"),
        "before": f"{was.grid[j, i]:.{places}f}".replace("-", "−") if was is not None else "",
        "change": signed(change.item(j, i), 1 if in_percent(was) else places) if change is not None else "",
        "change_unit": "%" if in_percent(was) else table.unit,
        "cell_steps": [
            {"words": one.step.words, "before": shown(one.before), "after": shown(one.after), "id": one.step.id}
            for one in reversed(steps)
        ],
        "seconds": None if seen is None else float(seen.dwell[j, i]),
        "retard": None if seen is None else float(seen.retard[j, i]),
        "logs": visits is not None,
        "is_pinned": (i, j) in sight.work.pinned,
    }


def _state(found: list[Event], sight: Sight) -> dict[str, Any]:
    """What a page or a script must know of the draft."""
    return {
        "version": sight.work.draft.version,
        "undo": _step_words(draft_steps.undoable(found)),
        "redo": _step_words(draft_steps.redoable(found)),
        "touched": int((sight.work.table.grid != sight.work.was.grid).sum()) if sight.work.was is not None else -1,
    }


@router.get(_HERE)
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
        page = round_page(user, job_id, number, Station.REVIEW)
        if table == CONSTANTS:
            return _constants(request, user, page)
        sight = _sight(user, page, table, show)
        found = draft_steps.steps(page.job)
        chosen = parse_cells(cell) if cell.strip() else [(0, sight.table.shape[0] - 1)]
        values = _cell_values(sight, *chosen[0], found)
    shown = sight.table
    return render(
        request,
        "tables.html",
        user,
        page=page,
        sight=sight,
        table=shown,
        cells=" ".join(f"{i}.{j}" for i, j in chosen),
        was=sight.was,
        grid=as_grid(shown, sight.drawn()),
        showing=sight.showing,
        showings=list(Showing),
        groups=listed(sight.work.content, sight.work.base),
        alike=work.alike(sight.work.content, sight.work.table),
        hints={key: one.words for key, one in VERBS.items()} | {"was": "back to the revision's value"},
        joinings=list(Joining),
        lines=table_lines(shown, sight.was, values["j"]),
        relief=_relief(sight, turn),
        history=_history(found),
        percent=in_percent(sight.was),
        **_state(found, sight),
        **values,
    )


@router.get(_HERE + "/cell")
def cell(
    request: Request, user: Person, job_id: int, number: int, table: str, i: int, j: int, chosen: int = 1
) -> Response:
    """The margin for a cell."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.REVIEW)
        sight = _sight(user, page, table, "")
        found = draft_steps.steps(page.job)
        values = _cell_values(sight, i, j, found)
    return render(
        request, "_table_margin.html", user, page=page, table=sight.table, sight=sight, chosen=chosen,
        history=_history(found), **_state(found, sight), **values,
    )  # fmt: skip


@router.get(_HERE + "/pictures")
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
        page = round_page(user, job_id, number, Station.REVIEW)
        sight = _sight(user, page, table, show)
    shown = sight.table
    row = min(max(j, 0), shown.shape[0] - 1)
    return render(
        request,
        "_table_pictures.html",
        user,
        page=page,
        table=shown,
        lines=table_lines(shown, sight.was, row),
        relief=_relief(sight, turn % TURNS),
        i=i,
        j=row,
    )


@router.get(_HERE + "/moments")
def moments(
    user: Person, job_id: int, number: int, table: str, cells: Annotated[str, Query(max_length=400_000)] = ""
) -> Response:
    """When the engine was in the chosen cells, on traces of the log in which it was there longest."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.REVIEW)
        found = work.table_work(page.job, page.round, table)
        best = visits.moments(jobs.spark_logs(page.round), found.table, parse_cells(cells))
        if best is None:
            raise BadInput("this round has no log", advice="its moments are shown once there is one")
        told = spans_of(best[0], best[1], traces_for(found.table))
    return JSONResponse(told | {"read": f"{page.path}/read?log={told['log']}"})


@dataclass(frozen=True)
class Wish:
    """What every edit's form says."""

    table: str
    version: int
    cells: list[tuple[int, int]]
    why: str
    show: str


def _wished(
    table: Annotated[str, Form(max_length=64)],
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
    why: Annotated[str, Form(max_length=200)] = "",
    show: Annotated[str, Form()] = "",
) -> Wish:
    return Wish(table, version, parse_cells(cells), why, show)


Wished = Annotated[Wish, Depends(_wished)]


def _answer(
    request: Request, user: Person, job_id: int, number: int, wish: Wish, before: Sight | None, said: str, **more: Any
) -> Response:
    """The cells that look different now, for a script; the page, for a plain form."""
    if "x-fragment" not in request.headers:
        say(request, said)
        return RedirectResponse(f"/jobs/{job_id}/rounds/{number}/tables?table={wish.table}&show={wish.show}", 303)
    with unit_of_work():
        page = round_page(user, job_id, number, Station.REVIEW)
        after = _sight(user, page, wish.table, wish.show)
        found = draft_steps.steps(page.job)
    same = before is not None and before.table.shape == after.table.shape
    cells = before.drawn().changed(after.drawn()) if before is not None and same else []
    return JSONResponse(_state(found, after) | {"said": said, "cells": cells, "reload": not same} | more)


def _before(user: Person, page: RoundPage, wish: Wish) -> Sight:
    return _sight(user, page, wish.table, wish.show)


@router.post(_HERE + "/edit", dependencies=[FromOurForm])
def edit(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    wish: Wished,
    line: Annotated[str, Form(max_length=500)] = "",
) -> Response:
    """Apply the cell line to the chosen cells."""
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        before = _before(user, page, wish)
        event = work.edit(
            page.job, page.round, user, wish.version, wish.table, wish.cells, line, wish.why, before.liking
        )
    return _answer(request, user, job_id, number, wish, before, event.sentence)


@router.post(_HERE + "/paste", dependencies=[FromOurForm])
def paste(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    wish: Wished,
    text: Annotated[str, Form()] = "",
    joining: Annotated[str, Form()] = Joining.REPLACE,
) -> Response:
    """Paste tab-separated text at the chosen cells."""
    if joining not in list(Joining):
        raise BadInput("pasted numbers replace, add or multiply", advice="choose one of them")
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        before = _before(user, page, wish)
        event, where = work.paste(
            page.job,
            page.round,
            user,
            wish.version,
            wish.table,
            wish.cells,
            text,
            Joining(joining),
            wish.why,
            before.liking,
        )
    at = [[int(i), int(j)] for j, i in np.argwhere(where.chosen)]
    return _answer(request, user, job_id, number, wish, before, event.sentence, chosen=at)


@router.post(_HERE + "/undo", dependencies=[FromOurForm])
def undo(request: Request, user: Person, job_id: int, number: int, wish: Wished) -> Response:
    """Put back the last step."""
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        before = _before(user, page, wish)
        event = draft_steps.undo(page.job, page.round, user, wish.version)
    return _answer(request, user, job_id, number, wish, before, f"Undone: {event.sentence}")


@router.post(_HERE + "/redo", dependencies=[FromOurForm])
def redo(request: Request, user: Person, job_id: int, number: int, wish: Wished) -> Response:
    """Do the last undone step again."""
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        before = _before(user, page, wish)
        event = draft_steps.redo(page.job, page.round, user, wish.version)
    return _answer(request, user, job_id, number, wish, before, f"Done again: {event.sentence}")


@router.post(_HERE + "/pin", dependencies=[FromOurForm])
def pin(request: Request, user: Person, job_id: int, number: int, wish: Wished) -> Response:
    """Pin the chosen cells, or free them if all of them are pinned."""
    if not wish.cells:
        raise BadInput("no cell is chosen", advice="choose cells on the grid first")
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        before = _before(user, page, wish)
        rows, columns = before.work.table.shape
        inside = {(i, j) for i, j in wish.cells if i < columns and j < rows}
        now_pinned = draft_pins.keep_pins(before.work.draft, wish.table, set(before.work.pinned), inside)
    count = f"{len(inside)} cell{'s' if len(inside) != 1 else ''}"
    return _answer(request, user, job_id, number, wish, before, f"{count} {'pinned' if now_pinned else 'freed'}.")


@router.post(_HERE + "/breakpoints", dependencies=[FromOurForm])
def breakpoints(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    wish: Wished,
    x: Annotated[str, Form(max_length=4000)],
    y: Annotated[str, Form(max_length=4000)] = "",
    others: Annotated[bool, Form()] = False,
) -> Response:
    """Give a table other breakpoints, its values read off between the old ones."""
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        sight = _before(user, page, wish)
        table = sight.work.table
        along = scale_of(table.x.unit, sight.liking).stored(read_breakpoints(x, table.x.title))
        up = None
        if table.y is not None:
            up = scale_of(table.y.unit, sight.liking).stored(read_breakpoints(y, table.y.title))
        ids = [table.id, *(one.id for one in work.alike(sight.work.content, table) if others)]
        event = work.change_breakpoints(page.job, page.round, user, wish.version, ids, along, up, wish.why)
    return _answer(request, user, job_id, number, wish, None, event.sentence)


def _constants(request: Request, user: Person, page: RoundPage) -> Response:
    draft, base, content, frozen = work.contents(page.job, page.round)
    old = {one.id: one.value for one in base.constants}
    found = draft_steps.steps(page.job)
    return render(
        request,
        "constants.html",
        user,
        page=page,
        rows=[(one, old.get(one.id)) for one in content.constants],
        groups=listed(content, base),
        frozen=frozen,
        version=draft.version,
        undo=_step_words(draft_steps.undoable(found)),
        redo=_step_words(draft_steps.redoable(found)),
    )


@router.post(_HERE + "/constant", dependencies=[FromOurForm])
def constant(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    constant: Annotated[str, Form(max_length=64)],
    value: Annotated[str, Form(max_length=40)],
    version: Annotated[int, Form()],
    why: Annotated[str, Form(max_length=200)] = "",
) -> Response:
    """Set a constant of the draft."""
    try:
        wanted = float(value.strip().replace(",", ".").replace("−", "-"))
    except ValueError:
        raise BadInput(f"“{value.strip()}” is not a number", where=constant, advice="write one") from None
    with unit_of_work():
        page = open_round(user, job_id, number, Station.REVIEW)
        sentence = f"Constant {constant} set to {wanted:g}"
        told: dict[str, object] = {"constant": constant, "value": wanted}
        work.change_content(
            page.job, page.round, user, version, lambda one: set_constant(one, constant, wanted), sentence, told, why
        )
    say(request, f"{sentence}.")
    return RedirectResponse(f"{page.path}/tables?table={CONSTANTS}", 303)


@router.post(_HERE + "/go-back", dependencies=[FromOurForm])
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
        page = open_round(user, job_id, number, Station.REVIEW)
        event = revisions.go_back(page.job, page.round, user, version, revision)
    say(request, f"{event.sentence}. It is one step and can be undone.")
    return RedirectResponse(f"{page.path}/review", 303)
