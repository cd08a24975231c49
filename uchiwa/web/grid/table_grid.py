"""The grid of a table under edit: value, change or evidence in each cell, with what is known of it."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.review.reviewed import VisitedCells
from uchiwa.core.tables.table import Table
from uchiwa.web.grid.grid import FILL_STEPS, FULL_DWELL_S, FULL_ERROR_PERCENT, FULL_STEPS, Cell, Grid, corner, points


class Showing(StrEnum):
    """What the cells of a table show."""

    VALUE = "value"
    CHANGE = "change"
    EVIDENCE = "evidence"


@dataclass(frozen=True, eq=False)
class Drawn:
    """Text and classes of every cell, row by row from the lowest; each of shape (rows, columns)."""

    text: np.ndarray
    classes: np.ndarray

    def changed(self, other: Drawn) -> list[list[object]]:
        """Cells [i, j, text, classes] that another drawing shows differently."""
        if self.text.shape != other.text.shape:
            return []
        different = (self.text != other.text) | (self.classes != other.classes)
        rows, columns = (one.tolist() for one in np.nonzero(different))
        shown = (other.text[different].tolist(), other.classes[different].tolist())
        return [list(one) for one in zip(columns, rows, *shown, strict=True)]


def bars(dwell: FloatArray) -> np.ndarray:
    """Length of the evidence bars, 0 … 10: the square root of the dwell, full at 20 s."""
    length = np.round(10 * np.sqrt(np.minimum(dwell / FULL_DWELL_S, 1.0))).astype(int)
    return np.where(dwell > 0, np.maximum(length, 1), 0)


def in_percent(base: Table | None) -> bool:
    """Whether changes against a revision are told in %."""
    return base is not None and base.role != "spark_advance" and bool((base.grid > 0).all())


def differences(table: Table, base: Table | None) -> FloatArray | None:
    """The change against a revision, in % or in the table's unit (`in_percent`); None without one."""
    if base is None or base.shape != table.shape:
        return None
    if in_percent(base):
        return np.asarray((table.grid / base.grid - 1.0) * 100.0)
    return np.asarray(table.grid - base.grid)


def drawn(
    table: Table,
    base: Table | None,
    visited: VisitedCells | None,
    pinned: Collection[tuple[int, int]],
    showing: Showing,
) -> Drawn:
    """A table's cells as they are shown.

    Args:
        table, base: draft and revision, in the units that are shown.
        visited: what the logs say of its cells, if there are logs.
    """
    shape, grid = table.shape, table.grid
    difference = differences(table, base)
    changed: BoolArray = np.zeros(shape, dtype=np.bool_) if base is None or base.shape != shape else grid != base.grid
    dwell = visited.dwell if visited is not None and visited.logged else None
    empty = np.full(shape, "", dtype=object)
    text, fill = empty, empty
    match showing:
        case Showing.VALUE:
            text = _texts(grid, f"%.{table.decimals}f")
            span = float(grid.max() - grid.min()) or 1.0
            fill = _VALUES[np.clip(np.round((grid - grid.min()) / span * FILL_STEPS), 0, FILL_STEPS).astype(int)]
        case Showing.CHANGE:
            if difference is not None:
                places = 1 if in_percent(base) else table.decimals
                shown = _texts(difference, f"%+.{places}f")
                text = np.where(changed, shown, "·")
                fill = np.where(changed, diverging_steps(difference, in_percent(base)), "")
        case Showing.EVIDENCE:
            if dwell is not None:
                text = np.where(dwell > 0, _texts(dwell, "%.1f"), "")
                fill = _VALUES[np.where(dwell > 0, np.round(bars(dwell) / 10 * FILL_STEPS), 0).astype(int)]
    return Drawn(text, _marked(np.where(changed, fill + " touched", fill), visited, pinned))


def _marked(classes: np.ndarray, visited: VisitedCells | None, pinned: Collection[tuple[int, int]]) -> np.ndarray:
    """Classes with what the logs say of the cells, and which are pinned."""
    if visited is not None and visited.logged:
        dwell = visited.dwell
        classes = classes + _BARS[bars(dwell)]
        classes = np.where(dwell <= 0, classes + " never", classes)
        classes = np.where(visited.retard >= 1.0, classes + " knocked", classes)
    mask = np.zeros(classes.shape, dtype=np.bool_)
    for i, j in pinned:
        if j < classes.shape[0] and i < classes.shape[1]:
            mask[j, i] = True
    return np.where(mask, classes + " state-pinned", classes)


_VALUES = np.array([f"val-{step}" for step in range(FILL_STEPS + 1)], dtype=object)
_BARS = np.array([f" ev-{length}" for length in range(11)], dtype=object)
_ADD = np.array(["", *(f"add-{step}" for step in range(1, FILL_STEPS + 1))], dtype=object)
_CUT = np.array(["", *(f"cut-{step}" for step in range(1, FILL_STEPS + 1))], dtype=object)


def diverging_steps(difference: FloatArray, percent: bool) -> np.ndarray:
    """Fill classes for changes: amber for more, indigo for less."""
    full = FULL_ERROR_PERCENT if percent else FULL_STEPS
    size = np.clip(np.ceil(np.abs(difference) / full * FILL_STEPS - 0.25), 0, FILL_STEPS).astype(int)
    return np.asarray(np.where(difference > 0, _ADD[size], _CUT[size]))


def _texts(values: FloatArray, form: str) -> np.ndarray:
    """Values as text, with a true minus and without a sign at zero."""
    every = tuple(values.ravel().tolist())
    texts = f" {form} " * len(every) % every  # a space on either side of each, so that zeros are told by their spaces
    plain = form.replace("+", "") % 0.0
    for zero in (form % 0.0, form % -0.0):
        texts = texts.replace(f" {zero} ", f" {plain} ")
    return np.array(texts.replace("-", "−").split(), dtype=object).reshape(values.shape)


def as_grid(table: Table, cells: Drawn) -> Grid:
    """The grid for a page, its highest row first; `words` are left to the heads, for screen readers read those."""
    rows, columns = table.shape
    heads = points(table.y, 5) if table.y is not None else (unit_words(table.unit),)
    lines = tuple(
        (heads[j], tuple(Cell(i, j, cells.text[j, i], cells.classes[j, i], "") for i in range(columns)))
        for j in reversed(range(rows))
    )
    return Grid(corner(table), points(table.x, 5), lines)
