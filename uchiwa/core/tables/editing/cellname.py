"""A cell by its breakpoints, as people name it."""

from __future__ import annotations

from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.tables.table import Axis, Table


def cell_name(table: Table, i: int, j: int, digits: int = 6) -> str:
    """A cell as people name it: 2400 rpm × 60 kPa; 20 °C, in gear."""
    name = _point(table.x, i, digits)
    if table.y is None:
        return name
    if table.y.quantity in _STATES:
        return f"{name}, {point_words(table.y, j)}"
    return f"{name} × {_point(table.y, j, digits)}"


_STATES = {"in_gear": ("neutral", "in gear")}


def point_words(axis: Axis, at: int, digits: int = 4) -> str:
    """A breakpoint as it stands at the head of a row: its number, or the state that it stands for."""
    words = _STATES.get(axis.quantity)
    point = float(axis.breakpoints[at])
    return words[int(point > 0.5)] if words is not None and point in (0.0, 1.0) else _number(point, digits)


def row_name(axis: Axis, at: int) -> str:
    """A row as a sentence names it: its breakpoint with its unit, or the state that it stands for."""
    return point_words(axis, at) if axis.quantity in _STATES else _point(axis, at, 4)


def _point(axis: Axis, at: int, digits: int) -> str:
    return f"{_number(axis.breakpoints.item(at), digits)} {unit_words(axis.unit)}".rstrip()


def _number(point: float, digits: int) -> str:
    return f"{point:.{digits}g}".replace("-", "−")
