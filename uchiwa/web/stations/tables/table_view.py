"""A table of a draft as its page shows it: values, what is known of them, and the draft's steps."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from uchiwa.core.quantities.display import DisplayUnits, scale_of, shown_table, value_scale
from uchiwa.core.tables.attribution import cell_steps
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.table import Table
from uchiwa.services import tables as work
from uchiwa.store import draft_steps
from uchiwa.store.models import Event
from uchiwa.web.account.display_units import display_of
from uchiwa.web.grid.grid import one_hue
from uchiwa.web.grid.table_grid import Drawn, Showing, differences, diverging_steps, drawn, in_percent
from uchiwa.web.pages import ago
from uchiwa.web.requests.session import Person
from uchiwa.web.round_context import RoundPage
from uchiwa.web.svg.relief import ReliefPicture, ReliefStyle, relief

ADDRESS = "/jobs/{job_id}/rounds/{number}/tables"
CONSTANTS = "constants"


@dataclass(frozen=True)
class TableView:
    """A table as a person sees it."""

    work: work.TableWork
    display: DisplayUnits
    showing: Showing

    @property
    def table(self) -> Table:
        """In the units that are shown."""
        return shown_table(self.work.table, self.display)

    @property
    def was(self) -> Table | None:
        """The revision's, in the units that are shown."""
        return shown_table(self.work.was, self.display) if self.work.was is not None else None

    def drawn(self) -> Drawn:
        """Its cells."""
        visited = self.work.visits.visited if self.work.visits is not None else None
        return drawn(self.table, self.was, visited, self.work.pinned, self.showing)


def table_view(user: Person, page: RoundPage, table: str | None, showing: str) -> TableView:
    found = work.table_work(page.job, page.round, table)
    display = display_of(user, page.job, found.content)
    return TableView(found, display, Showing(showing) if showing in list(Showing) else Showing.VALUE)


def step_sentence(event: Event | None) -> str:
    return event.sentence if event is not None else ""


def history_of(found: list[Event]) -> list[dict[str, Any]]:
    """The steps, newest first, as the margin lists them."""
    return [
        {
            "id": event.id,
            "sentence": event.sentence,
            "kind": event.kind,
            "undone": event.put_back,
            "who": event.author.name if event.author else "",
            "when": ago(event.at),
        }
        for event in reversed(found)
    ]


def relief_of(view: TableView, turn: int) -> ReliefPicture | None:
    table = view.table
    if table.y is None or min(table.shape) < 2:
        return None
    visits = view.work.visits
    seen = visits.visited.dwell > 0 if visits is not None and visits.visited.logged else np.ones(table.shape, np.bool_)
    trail = None
    if visits is not None and visits.trail.size:
        axes = (view.work.table.x, view.work.table.y)
        scales = [scale_of(axis.unit, view.display) for axis in axes if axis is not None]
        trail = np.column_stack([scale.shown(visits.trail[:, at]) for at, scale in enumerate(scales)])
    change = differences(table, view.was)
    if view.showing is Showing.CHANGE and change is not None:
        percent = in_percent(view.was)
        reach = max(float(np.abs(change).max()), 3.0 if percent else 1.0)
        fill = lambda value: str(diverging_steps(np.array(value), percent)) or "flat"  # noqa: E731
        return relief(table, change, ReliefStyle((-reach, reach), fill, seen), turn, trail)
    low, high = float(table.grid.min()), float(table.grid.max())
    span = (high - low) or 1.0
    return relief(
        table, table.grid, ReliefStyle((low, high), lambda value: one_hue((value - low) / span), seen), turn, trail
    )


def cell_values(view: TableView, i: int, j: int, found: list[Event]) -> dict[str, Any]:
    """What the margin says of a cell."""
    table, was, visits = view.table, view.was, view.work.visits
    rows, columns = table.shape
    i, j = min(max(i, 0), columns - 1), min(max(j, 0), rows - 1)
    scale = value_scale(view.work.table, view.display)
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
            {"words": step.step.words, "before": shown(step.before), "after": shown(step.after), "id": step.step.id}
            for step in reversed(steps)
        ],
        "seconds": None if seen is None else float(seen.dwell[j, i]),
        "retard": None if seen is None else float(seen.retard[j, i]),
        "logs": visits is not None,
        "is_pinned": (i, j) in view.work.pinned,
    }


def draft_state(ends: tuple[Event | None, Event | None], view: TableView) -> dict[str, Any]:
    """What a page or a script must know of the draft; `ends` are the steps to undo and to do again."""
    return {
        "version": view.work.draft.version,
        "undo": step_sentence(ends[0]),
        "redo": step_sentence(ends[1]),
        "touched": int((view.work.table.grid != view.work.was.grid).sum()) if view.work.was is not None else -1,
    }
