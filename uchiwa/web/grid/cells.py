"""Cells of a grid as they stand in forms and addresses."""

from __future__ import annotations

import re

from uchiwa.core.errors import BadInput

_MOST_CELLS = 65536
_CELL = re.compile(r"[0-9]{1,18}\.[0-9]{1,18}")


def parse_cells(text: str) -> list[tuple[int, int]]:
    """Cells from `i.j` pairs separated by spaces.

    Raises:
        BadInput: something else.
    """
    parts = text.split()[:_MOST_CELLS]
    for part in parts:
        if not _CELL.fullmatch(part):
            raise BadInput(f"“{part[:20]}” is not a cell", advice="choose cells on the grid")
    numbers = list(map(int, ".".join(parts).split("."))) if parts else []
    return list(zip(numbers[::2], numbers[1::2], strict=True))
