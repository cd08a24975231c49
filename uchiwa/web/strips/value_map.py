"""A table as a small map of its values, on which the operating point moves."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.tables.table import Table
from uchiwa.web.grid.grid import one_hue, points

_MOST_LABELS = 8


@dataclass(frozen=True)
class MapCell:
    """A cell: its place, its fill, and the words for it."""

    i: int
    j: int
    fill: str
    words: str


@dataclass(frozen=True)
class ValueMap:
    """A table as drawn, its highest row first. Labels are left empty where there is no room for all."""

    id: str
    title: str
    unit: str
    x_unit: str
    y_unit: str
    decimals: int
    columns: tuple[str, ...]
    rows: tuple[tuple[str, tuple[MapCell, ...]], ...]
    low: float
    high: float


def value_map(table: Table) -> ValueMap:
    """The map of a table or curve."""
    grid = table.grid
    low, high = float(grid.min()), float(grid.max())
    heads = points(table.y) if table.y is not None else ("",)
    rows = tuple(
        (
            heads[j],
            tuple(
                MapCell(i, j, one_hue((grid.item(j, i) - low) / ((high - low) or 1.0)), _words(table, i, j))
                for i in range(table.shape[1])
            ),
        )
        for j in reversed(range(table.shape[0]))
    )
    step = -(-table.shape[1] // _MOST_LABELS)
    columns = tuple(head if number % step == 0 else "" for number, head in enumerate(points(table.x)))
    return ValueMap(
        table.id,
        table.title,
        table.unit,
        table.x.unit,
        table.y.unit if table.y is not None else "",
        table.decimals,
        columns,
        rows,
        low,
        high,
    )


def _words(table: Table, i: int, j: int) -> str:
    place = f"{table.x.breakpoints[i]:g} {table.x.unit}"
    if table.y is not None:
        place += f" × {table.y.breakpoints[j]:g} {table.y.unit}"
    return f"{place}: {table.grid.item(j, i):.{table.decimals}f} {table.unit}"
