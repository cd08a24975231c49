"""Giving rows or columns the shape of another."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.area import Area, places
from uchiwa.core.tables.table import Table


class Line(StrEnum):
    """What is copied."""

    ROW = "row"
    COLUMN = "column"


class Keeping(StrEnum):
    """How a line keeps its own level while it takes another's shape."""

    SCALED = "scaled"
    SHIFTED = "shifted"


def shaped(table: Table, area: Area, line: Line, at: float, keeping: Keeping) -> FloatArray:
    """Each chosen row (or column) with the shape of the one at a breakpoint, and its own mean over the chosen cells.

    `scaled` multiplies the pattern, as fits airflow and mixture; `shifted` adds to it, as fits spark.

    Args:
        at: breakpoint of the row or column whose shape is wanted, in its axis's unit.

    Raises:
        BadInput: the table has no such breakpoint, or a pattern around zero is to be scaled.
    """
    axis = 0 if line is Line.ROW else 1
    points = places(table, axis)
    if axis == 0 and table.y is None:
        raise BadInput("a curve has one row", advice="choose a table")
    found = np.flatnonzero(np.isclose(points, at, rtol=0, atol=1e-9 * max(1.0, abs(at))))
    if found.size == 0:
        some = ", ".join(f"{point:g}" for point in points[:12])
        raise BadInput(f"there is no {line} at {at:g}", advice=f"the breakpoints are {some}")
    grid, open_ = (table.grid, area.open) if axis == 0 else (table.grid.T, area.open.T)
    pattern, result = grid[found[0]], grid.copy()
    for number, cells in enumerate(open_):
        if not cells.any() or number == found[0]:
            continue
        level = float(pattern[cells].mean())
        own = float(grid[number, cells].mean())
        if keeping is Keeping.SHIFTED:
            result[number, cells] = pattern[cells] + (own - level)
            continue
        if abs(level) < 1e-12 or (pattern[cells] <= 0).any():
            raise BadInput("a shape that touches zero cannot be scaled", advice="write shifted instead")
        result[number, cells] = pattern[cells] * (own / level)
    return result if axis == 0 else result.T
