"""A table as a grid that shows value and evidence together."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.proposals.fuel.correction import State
from uchiwa.core.proposals.fuel.proposal import FuelProposal
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.tables.difference import TableDifference, signed
from uchiwa.core.tables.editing.cellname import point_words
from uchiwa.core.tables.table import Axis, Table

FILL_STEPS = 12
FULL_ERROR_PERCENT = 12.0
FULL_DWELL_S = 20.0
FULL_STEPS = 4.0
"""Change at which the scale is full where changes are told in the table's unit, such as degrees."""


class View(StrEnum):
    """What the cells of the Fuel grid show."""

    ERROR = "error"
    PROPOSED = "proposed"
    DIFFERENCE = "difference"
    EVIDENCE = "evidence"


@dataclass(frozen=True)
class Cell:
    """A cell as drawn: text, fill class, length of the evidence bar (0 … 10) and marks."""

    i: int
    j: int
    text: str
    classes: str
    words: str


@dataclass(frozen=True)
class Grid:
    """A table as drawn, its highest row first."""

    corner: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, tuple[Cell, ...]], ...]


def points(axis: Axis, digits: int = 6) -> tuple[str, ...]:
    """Breakpoints as text."""
    return tuple(point_words(axis, at, digits) for at in range(axis.size))


def fill_level(percent: float) -> int:
    """How strongly an error is filled, 0 … `FILL_STEPS`; full at ±12 %, 0 for NaN."""
    if not math.isfinite(percent):
        return 0
    return max(0, min(FILL_STEPS, math.ceil(abs(percent) / FULL_ERROR_PERCENT * FILL_STEPS - 0.25)))


def diverging(percent: float) -> str:
    """Fill for an error: amber adds fuel, indigo takes it out."""
    level = fill_level(percent)
    return f"{'add' if percent > 0 else 'cut'}-{level}" if level else ""


def one_hue(share: float) -> str:
    """Fill for a value: light to dark."""
    return f"val-{round(min(max(share, 0.0), 1.0) * FILL_STEPS)}"


def bar(dwell: float) -> int:
    """Length of the evidence bar, 0 … 10: the square root of the dwell, full at 20 s."""
    return 0 if dwell <= 0 else max(1, round(10 * math.sqrt(min(dwell / FULL_DWELL_S, 1.0))))


def corner(table: Table) -> str:
    """Units of the two axes."""
    along, up = unit_words(table.x.unit), unit_words(table.y.unit) if table.y is not None else ""
    return f"{up} / {along}" if up else along


def build(table: Table, cells: list[list[Cell]]) -> Grid:
    """Rows from the highest breakpoint down."""
    heads = points(table.y) if table.y is not None else (table.unit,)
    rows = tuple((heads[j], tuple(cells[j])) for j in reversed(range(table.shape[0])))
    return Grid(corner(table), points(table.x), rows)


def fuel_grid(proposal: FuelProposal, view: View, waiting: np.ndarray) -> Grid:
    """The Fuel grid in one of its views; `waiting` are the cells whose proposal is not in the draft yet."""
    table, bins, correction = proposal.table, proposal.bins, proposal.correction
    after, before = correction.after, table.grid
    span = float(after.max() - after.min()) or 1.0
    cells: list[list[Cell]] = []
    for j in range(table.shape[0]):
        row: list[Cell] = []
        for i in range(table.shape[1]):
            state = State(correction.state[j, i])
            samples = bins.samples.item(j, i)
            mean = (proposal.estimate.factor.item(j, i) - 1.0) * 100.0
            change = (after.item(j, i) / before.item(j, i) - 1.0) * 100.0 if before.item(j, i) else 0.0
            match view:
                case View.ERROR:
                    text = signed(mean) if math.isfinite(mean) else ""
                    fill = diverging(mean) if proposal.reached[j, i] else ""
                case View.PROPOSED:
                    text = f"{after.item(j, i):.{table.decimals}f}"
                    fill = one_hue((after.item(j, i) - after.min()) / span)
                case View.DIFFERENCE:
                    text = signed(change) if change else "·"
                    fill = diverging(change)
                case View.EVIDENCE:
                    text = f"{samples:.0f}" if samples else ""
                    fill = one_hue(bar(bins.dwell.item(j, i)) / 10)
            marks = [fill, f"ev-{bar(bins.dwell.item(j, i))}", f"state-{state}"]
            if not samples:
                marks.append("never")
            if waiting[j, i]:
                marks.append("waiting")
            row.append(Cell(i, j, text, " ".join(filter(None, marks)), _words(table, i, j, text)))
        cells.append(row)
    return build(table, cells)


def with_heads(grid: Grid, seen: Table) -> Grid:
    """A grid whose heads are those of the table in the units that are seen."""
    heads = (
        tuple(point_words(seen.y, at) for at in range(seen.y.size)) if seen.y is not None else (unit_words(seen.unit),)
    )
    rows = tuple((head, cells) for head, (_, cells) in zip(reversed(heads), grid.rows, strict=True))
    return Grid(corner(seen), points(seen.x, 5), rows)


def _words(table: Table, i: int, j: int, text: str) -> str:
    place = f"{table.x.breakpoints[i]:g} {table.x.unit}"
    if table.y is not None:
        place += f", {table.y.breakpoints[j]:g} {table.y.unit}"
    return f"{place}: {text or 'never visited'}"


def difference_grid(change: TableDifference, dwell: FloatArray | None) -> Grid:
    """The Review grid: what changed, by how much, and on what evidence."""
    table = change.table
    percent = change.percent
    cells: list[list[Cell]] = []
    for j in range(table.shape[0]):
        row: list[Cell] = []
        for i in range(table.shape[1]):
            changed = bool(change.changed[j, i])
            value = percent.item(j, i)
            steps = change.after.item(j, i) - change.before.item(j, i)
            by_steps = change.in_steps or not math.isfinite(value)
            text = signed(steps if by_steps else value) if changed else "·"
            size = steps / FULL_STEPS * FULL_ERROR_PERCENT if change.in_steps else value
            marks = [diverging(size) if changed else "", "changed" if changed else "kept"]
            if dwell is not None:
                marks.append(f"ev-{bar(dwell.item(j, i))}")
                if changed and dwell.item(j, i) <= 0:
                    marks.append("unseen")
            row.append(Cell(i, j, text, " ".join(filter(None, marks)), _words(table, i, j, text)))
        cells.append(row)
    return build(table, cells)
