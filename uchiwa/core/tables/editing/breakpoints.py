"""Other breakpoints for a table, its values read off between the old ones."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Axis, Table, frozen
from uchiwa.core.typed_number import typed_number

MOST = 256


def read_breakpoints(text: str, where: str) -> FloatArray:
    """Breakpoints from text, separated by blanks, tabs, semicolons or line ends.

    Raises:
        BadInput: fewer than two, more than 256, one that is no number, or one that does not rise.
    """
    parts = text.replace(";", " ").split()
    points: list[float] = []
    for number, part in enumerate(parts, 1):
        value = typed_number(part, f"{where}, breakpoint {number}")
        if points and value <= points[-1]:
            raise BadInput(
                f"{value:g} does not rise above {points[-1]:g}",
                where=f"{where}, breakpoint {number}",
                advice="list them from low to high, each once",
            )
        points.append(value)
    if not 2 <= len(points) <= MOST:
        raise BadInput(f"an axis has 2 to {MOST} breakpoints, not {len(points)}", where=where, advice="correct them")
    return np.array(points)


def rebroken(table: Table, x: FloatArray, y: FloatArray | None) -> Table:
    """The table over other breakpoints: every new value is the old table's own lookup there, held beyond its ends.

    Raises:
        BadInput: a curve is given a second axis, a table none, or the table is held as polynomials.
    """
    if (y is None) != (table.y is None):
        raise BadInput(f"{table.title} has {'one axis' if table.y is None else 'two axes'}", advice="keep its kind")
    if table.zones:
        raise BadInput(f"{table.title} is held as polynomials, which have no breakpoints of their own")
    along = Axis(table.x.quantity, table.x.unit, frozen(x))
    if table.y is None or y is None:
        values = table.rounded(table.lookup(x))
        return replace(table, x=along, values=frozen(values))
    upwards = Axis(table.y.quantity, table.y.unit, frozen(y))
    columns, rows = np.meshgrid(x, y)
    values = table.rounded(table.lookup(columns, rows))
    same = _kept(table, x, y)
    for (j, i), (old_j, old_i) in same:
        values[j, i] = table.grid[old_j, old_i]
    return replace(table, x=along, y=upwards, values=frozen(values))


def _kept(table: Table, x: FloatArray, y: FloatArray) -> list[tuple[tuple[int, int], tuple[int, int]]]:
    """Cells whose breakpoints the old table has too, as (new, old)."""
    if table.y is None:
        return []
    columns = [
        (i, int(np.flatnonzero(table.x.breakpoints == one)[0])) for i, one in enumerate(x) if one in table.x.breakpoints
    ]
    rows = [
        (j, int(np.flatnonzero(table.y.breakpoints == one)[0])) for j, one in enumerate(y) if one in table.y.breakpoints
    ]
    return [((j, i), (old_j, old_i)) for j, old_j in rows for i, old_i in columns]
