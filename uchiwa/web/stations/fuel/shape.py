"""How a table is laid out on the sheet."""

from __future__ import annotations

from enum import StrEnum


class Shape(StrEnum):
    """How a table is laid out."""

    GRID = "grid"
    LINES = "lines"
    RELIEF = "relief"
