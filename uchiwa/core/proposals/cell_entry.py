"""What every proposal's report says of a cell first: where it lies, and its value before and after."""

from __future__ import annotations

from typing import Any

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table


def cell_entry(table: Table, after: FloatArray, i: int, j: int) -> dict[str, Any]:
    """Column and row, breakpoints (`y` is None for a curve), and the values, in the table's own units."""
    return {
        "i": i,
        "j": j,
        "x": float(table.x.breakpoints[i]),
        "y": float(table.y.breakpoints[j]) if table.y is not None else None,
        "before": float(table.grid[j, i]),
        "after": float(after[j, i]),
    }
