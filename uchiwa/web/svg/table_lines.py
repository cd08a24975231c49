"""A table drawn as lines over its x axis, one row marked against the revision's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table
from uchiwa.web.svg.shapes import Tick, nice_ticks, spread_out

WIDTH, HEIGHT = 820.0, 372.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 56.0, 34.0, 22.0, 40.0


@dataclass(frozen=True)
class TableLines:
    """Lines of all rows; the marked row's, as it is and as the revision has it; its points (x, y, i)."""

    others: tuple[str, ...]
    now: str
    was: str
    points: tuple[tuple[float, float, int], ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    unit: str
    x_title: str


def table_lines(table: Table, base: Table | None, row: int) -> TableLines:
    """One line per row of a table, one of them marked; both tables in the units that are shown."""
    points = table.x.breakpoints
    x = _LEFT + (points - points[0]) / (points[-1] - points[0]) * (WIDTH - _LEFT - _RIGHT)
    comparable = base is not None and base.shape == table.shape
    was = base.grid if base is not None and comparable else table.grid
    every = np.concatenate([table.grid, was])
    low, high = float(every.min()), float(every.max())
    room = (high - low) * 0.04 or 0.5
    low, high = low - room, high + room
    bottom = HEIGHT - _BOTTOM

    def height(values: FloatArray) -> FloatArray:
        return np.asarray(bottom - (values - low) / (high - low) * (bottom - _TOP))

    def line(values: FloatArray) -> str:
        return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x.tolist(), height(values).tolist(), strict=True))

    ticks = nice_ticks(low, high, 6)
    places = height(np.array(ticks)).tolist()
    marks = zip(x.tolist(), height(table.grid[row]).tolist(), strict=True)
    return TableLines(
        tuple(line(values) for j, values in enumerate(table.grid) if j != row),
        line(table.grid[row]),
        line(was[row]) if comparable else "",
        tuple((round(a, 1), round(b, 1), i) for i, (a, b) in enumerate(marks)),
        spread_out(x, [f"{point:.4g}" for point in points], 62.0),
        tuple(Tick(round(at, 1), f"{value:g}".replace("-", "−")) for at, value in zip(places, ticks, strict=True)),
        table.unit,
        f"{table.x.title}, {table.x.unit}",
    )
