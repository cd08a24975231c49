"""A table with a proposal for it as a grid: what changes, what is proposed, what is in the car."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.table import Table
from uchiwa.web.grid.grid import FILL_STEPS, Cell, Grid, bar, build, one_hue


class TableView(StrEnum):
    """What the cells show."""

    CHANGE = "change"
    PROPOSED = "proposed"
    PRESENT = "present"


@dataclass(frozen=True)
class Drawn:
    """One cell: its text, its fill, and further classes."""

    text: str
    fill: str
    marks: tuple[str, ...] = ()


def turned(change: float, full: float) -> str:
    """Fill for a change: amber puts in, indigo takes out."""
    if not math.isfinite(change) or abs(change) < 1e-9:
        return ""
    level = min(FILL_STEPS, max(1, round(abs(change) / full * FILL_STEPS)))
    return f"{'add' if change > 0 else 'cut'}-{level}"


def share_of(values: FloatArray, value: float) -> str:
    """Fill for a value among those of its table."""
    span = float(values.max() - values.min()) or 1.0
    return one_hue((value - float(values.min())) / span)


def drawn_grid(
    table: Table, dwell: FloatArray, state: np.ndarray, waiting: BoolArray, draw: Callable[[int, int], Drawn]
) -> Grid:
    """A table as a grid, each cell as `draw(i, j)` says, with its bar of evidence, its state and what waits to be taken."""
    rows: list[list[Cell]] = []
    for j in range(table.shape[0]):
        row: list[Cell] = []
        for i in range(table.shape[1]):
            one = draw(i, j)
            seconds = float(dwell[j, i])
            marks = [one.fill, f"ev-{bar(seconds)}", f"state-{state[j, i]}", *one.marks]
            if seconds <= 0:
                marks.append("never")
            if waiting[j, i]:
                marks.append("waiting")
            place = f"{table.x.breakpoints[i]:g} {table.x.unit}"
            if table.y is not None:
                place += f", {table.y.breakpoints[j]:g} {table.y.unit}"
            row.append(Cell(i, j, one.text, " ".join(filter(None, marks)), f"{place}: {one.text or 'nothing'}"))
        rows.append(row)
    return build(table, rows)


def table_view(
    table: Table, after: FloatArray, view: TableView, full: float, decimals: int
) -> Callable[[int, int], Drawn]:
    """How cells show a proposal in a view; a change fills its cell at `full`."""

    def draw(i: int, j: int) -> Drawn:
        before, value = float(table.grid[j, i]), float(after[j, i])
        match view:
            case TableView.CHANGE:
                change = value - before
                text = f"{change:+.{decimals}f}".replace("-", "−") if abs(change) > 1e-9 else "·"
                return Drawn(text, turned(change, full))
            case TableView.PROPOSED:
                return Drawn(f"{value:.{table.decimals}f}", share_of(after, value))
            case _:
                return Drawn(f"{before:.{table.decimals}f}", share_of(table.grid, before))

    return draw
