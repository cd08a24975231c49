"""A cell by its breakpoints, as people name it."""

from __future__ import annotations

from uchiwa.core.tables.table import Table


def cell_name(table: Table, i: int, j: int, digits: int = 6) -> str:
    """A cell as people name it: 2400 rpm × 60 kPa."""
    name = f"{table.x.breakpoints[i]:.{digits}g} {table.x.unit}"
    return name if table.y is None else f"{name} × {table.y.breakpoints[j]:.{digits}g} {table.y.unit}"
