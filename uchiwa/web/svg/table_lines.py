"""A table drawn as lines over its x axis, one row marked against the revision's."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.tables.table import Table
from uchiwa.web.svg.scale import Scale, Tick, polyline, spread_out

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
    x = Scale(float(points[0]), float(points[-1]), _LEFT, WIDTH - _RIGHT).places(points)
    comparable = base is not None and base.shape == table.shape
    was = base.grid if base is not None and comparable else table.grid
    every = np.concatenate([table.grid, was])
    up = Scale.around(every, HEIGHT - _BOTTOM, _TOP, spare=0.04)

    def line(values: FloatArray) -> str:
        return polyline(x, up.places(values))

    marks = zip(x.tolist(), up.places(table.grid[row]).tolist(), strict=True)
    return TableLines(
        tuple(line(values) for j, values in enumerate(table.grid) if j != row),
        line(table.grid[row]),
        line(was[row]) if comparable else "",
        tuple((round(a, 1), round(b, 1), i) for i, (a, b) in enumerate(marks)),
        spread_out(x, [f"{point:.4g}" for point in points], 62.0),
        up.ticks(6),
        table.unit,
        f"{table.x.title}, {unit_words(table.x.unit)}",
    )
