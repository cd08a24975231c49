"""Cells of a grid as they stand in forms and addresses."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.whole_number import whole_number

_MOST_CELLS = 65536


def parse_cells(text: str) -> list[tuple[int, int]]:
    """Cells from `i.j` pairs separated by spaces.

    Raises:
        BadInput: something else.
    """
    cells: list[tuple[int, int]] = []
    for part in text.split()[:_MOST_CELLS]:
        i, dot, j = part.partition(".")
        column, row = whole_number(i), whole_number(j)
        if not dot or column is None or row is None:
            raise BadInput(f"“{part[:20]}” is not a cell", advice="choose cells on the grid")
        cells.append((column, row))
    return cells
