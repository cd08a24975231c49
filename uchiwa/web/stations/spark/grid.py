"""Tables of the Spark station as grids: knock, what torque asks for, and knock limits."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.knock.judgement import Verdict
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.proposals.knock.proposal import KnockProposal
from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal
from uchiwa.core.proposals.torque.proposal import TorqueProposal
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.table import Table
from uchiwa.web.grid.grid import FILL_STEPS, Cell, Grid, bar, build, one_hue

FULL_CHANGE = 6.0
"""Degrees at which the fill of a change is full."""
FULL_RETARD = 6.0
FULL_PER_MINUTE = 30.0
FULL_LIMIT_CHANGE = 0.6


class KnockView(StrEnum):
    """What the cells of the knock grid show."""

    RETARD = "retard"
    EVENTS = "events"
    PROPOSED = "proposed"
    CHANGE = "change"


class TableView(StrEnum):
    """What the cells of the other grids show."""

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


def _share(values: FloatArray, value: float) -> str:
    span = float(values.max() - values.min()) or 1.0
    return one_hue((value - float(values.min())) / span)


def _grid(
    table: Table, dwell: FloatArray, state: np.ndarray, waiting: BoolArray, draw: Callable[[int, int], Drawn]
) -> Grid:
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


def changed_text(change: float) -> str:
    """A change in degrees, or a dot for none."""
    return signed(change) if abs(change) > 1e-9 else "·"


def knock_grid(proposal: KnockProposal, view: KnockView, waiting: BoolArray, holds: Mapping[int, Verdict]) -> Grid:
    """The knock grid; `holds` tells by number of the cluster what it counts as, and marks its cells."""
    table, knock = proposal.table, proposal.knock
    of_cell = {cell: one.number for one in proposal.clusters for cell in one.cells}
    per_minute = knock.per_minute

    def draw(i: int, j: int) -> Drawn:
        number = of_cell.get((i, j))
        marks = (f"knock-{holds[number].value}",) if number is not None else ()
        worst, after = float(knock.worst[j, i]), float(proposal.after[j, i])
        change = after - float(table.grid[j, i])
        match view:
            case KnockView.RETARD:
                text = f"{worst:.1f}" if worst > 0 else ("0" if knock.dwell[j, i] > 0 else "")
                return Drawn(text, one_hue(worst / FULL_RETARD) if worst > 0 else "", marks)
            case KnockView.EVENTS:
                count, often = int(knock.count[j, i]), float(np.nan_to_num(per_minute[j, i]))
                text = str(count) if knock.dwell[j, i] > 0 else ""
                return Drawn(text, one_hue(often / FULL_PER_MINUTE) if count else "", marks)
            case KnockView.PROPOSED:
                return Drawn(f"{after:.{table.decimals}f}", _share(proposal.after, after), marks)
            case _:
                return Drawn(changed_text(change), turned(change, FULL_CHANGE), marks)

    return _grid(table, knock.dwell, proposal.state, waiting, draw)


def _table_view(
    table: Table, after: FloatArray, view: TableView, full: float, decimals: int
) -> Callable[[int, int], Drawn]:
    def draw(i: int, j: int) -> Drawn:
        before, value = float(table.grid[j, i]), float(after[j, i])
        match view:
            case TableView.CHANGE:
                change = value - before
                text = f"{change:+.{decimals}f}".replace("-", "−") if abs(change) > 1e-9 else "·"
                return Drawn(text, turned(change, full))
            case TableView.PROPOSED:
                return Drawn(f"{value:.{table.decimals}f}", _share(after, value))
            case _:
                return Drawn(f"{before:.{table.decimals}f}", _share(table.grid, before))

    return draw


def torque_grid(proposal: TorqueProposal, view: TableView, waiting: BoolArray) -> Grid:
    """The spark table as torque asks for it; the bars are the time of all logs in the cells."""
    draw = _table_view(proposal.table, proposal.after, view, FULL_CHANGE / 2, 1)
    knocks = {cell for one in proposal.judged if one.verdict is not Verdict.NOISE for cell in one.cells}

    def marked(i: int, j: int) -> Drawn:
        one = draw(i, j)
        return Drawn(one.text, one.fill, ("knock-real",) if (i, j) in knocks else ())

    return _grid(proposal.table, proposal.knock.dwell, proposal.state, waiting, marked)


def limit_grid(proposal: ThresholdProposal, view: TableView, waiting: BoolArray) -> Grid:
    """The table of knock limits; the bars are samples of safe runs, ten as a second."""
    draw = _table_view(proposal.table, proposal.after, view, FULL_LIMIT_CHANGE, proposal.table.decimals)
    return _grid(proposal.table, proposal.samples / 10.0, proposal.state, waiting, draw)
