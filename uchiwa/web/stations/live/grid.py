"""The table under the engine while a log is recorded: each cell with what it has seen so far, in one of four views."""

from __future__ import annotations

import math
from enum import StrEnum
from typing import Any

import numpy as np

from uchiwa.core.live.filling import Filling
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.table import Table
from uchiwa.web.grid.grid import Cell, Grid, bar, build, diverging, one_hue, points

_FULL_SAMPLES = 250.0
_FULL_S = 20.0
_FEW = 10


class LiveView(StrEnum):
    """What the cells show."""

    ERROR = "error"
    TIME = "time"
    SAMPLES = "samples"
    CHANGE = "change"


def drawn_cell(
    view: LiveView, seconds: float, samples: float, mean: float, change: dict[str, Any] | None
) -> tuple[str, str]:
    """Text and classes of a cell.

    Args:
        view: what is shown.
        seconds: warm and running, in this session.
        samples: that count for fuel.
        mean: of their errors, %; NaN without any.
        change: the correction so far of the cell, if there is one.
    """
    marks = [f"ev-{bar(seconds)}"]
    text, fill = "", ""
    match view:
        case LiveView.TIME:
            text = f"{seconds:.0f}" if seconds >= 0.5 else ""
            fill = one_hue(min(seconds / _FULL_S, 1.0)) if seconds > 0 else ""
        case LiveView.SAMPLES:
            text = f"{samples:.0f}" if samples else ""
            fill = one_hue(min(samples / _FULL_SAMPLES, 1.0)) if samples else ""
        case LiveView.CHANGE:
            moved = change is not None and change["state"] in ("changed", "limited")
            percent = (change["factor"] - 1) * 100 if change is not None and moved else 0.0
            text = signed(percent) if moved else "·" if change is not None else ""
            fill = diverging(percent) if moved else ""
            if change is not None:
                marks.append(f"state-{change['state']}")
        case _:
            if math.isfinite(mean):
                text = signed(mean)
                fill = diverging(mean) if samples >= _FEW else ""
            if samples < _FEW:
                marks.append("state-thin")
    if seconds <= 0 and not samples:
        marks.append("never")
    return text, " ".join(filter(None, [fill, *marks]))


def words_of(table: Table, i: int, j: int, seen: tuple[float, float, float]) -> str:
    """What a cell says when it is asked: of seconds and samples in it, and its mean error in %."""
    seconds, samples, mean = seen
    place = f"{table.x.breakpoints[i]:g} {table.x.unit}"
    if table.y is not None:
        place += f", {table.y.breakpoints[j]:g} {table.y.unit}"
    if not seconds and not samples:
        return f"{place}: not visited yet"
    told = f"{place}: {seconds:.1f} s, {samples:.0f} samples"
    return f"{told}, mean error {signed(mean)} %" if math.isfinite(mean) else told


def cells_of(
    filling: Filling, view: LiveView, correction: dict[tuple[int, int], dict[str, Any]], these: np.ndarray
) -> list[list[Any]]:
    """Some cells as they are drawn: column, row, text, classes and words of each.

    Args:
        filling: what the cells have seen.
        view: what they show.
        correction: so far, by cell.
        these: which ones; a mask of shape (rows, columns).
    """
    found: list[list[Any]] = []
    for j, i in np.argwhere(these).tolist():
        seen = filling.seen(i, j)
        text, classes = drawn_cell(view, *seen, correction.get((i, j)))
        found.append([i, j, text, classes, words_of(filling.table, i, j, seen)])
    return found


def live_grid(
    filling: Filling, view: LiveView, correction: dict[tuple[int, int], dict[str, Any]]
) -> tuple[Grid, tuple[str, ...]]:
    """The whole table, its highest row first, and the heads of its columns."""
    drawn = cells_of(filling, view, correction, np.ones(filling.table.shape, dtype=np.bool_))
    rows: list[list[Cell]] = [[] for _ in range(filling.table.shape[0])]
    for i, j, text, classes, words in drawn:
        rows[j].append(Cell(i, j, text, classes, words))
    return build(filling.table, rows), points(filling.table.x)
