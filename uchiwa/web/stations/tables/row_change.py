"""One row of a table before and after, and the change below it: SVG shapes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.tables.table import Table
from uchiwa.web.grid.table_grid import differences, diverging_steps, in_percent
from uchiwa.web.svg.scale import Scale, Tick, polyline, spread_out

WIDTH, HEIGHT = 820.0, 300.0
_LEFT, _RIGHT = 52.0, 20.0
_UPPER, _LOWER = (16.0, 178.0), (206.0, 274.0)


@dataclass(frozen=True)
class ChangeBar:
    """The change at a breakpoint: where it stands, how high, and its fill."""

    x: float
    y: float
    width: float
    height: float
    classes: str


@dataclass(frozen=True)
class RowChange:
    """Values before and after on the row's own scale, and bars of the change."""

    before: str
    after: str
    points: tuple[tuple[float, float], ...]
    bars: tuple[ChangeBar, ...]
    zero: float
    x: tuple[Tick, ...]
    values: tuple[Tick, ...]
    changes: tuple[Tick, ...]
    unit: str
    change_unit: str
    title: str


def row_change(after: Table, before: Table, row: int) -> RowChange:
    """The picture of a row; both tables in the units that are shown, over the same axes."""
    points = after.x.breakpoints
    inset = min(16.0, (WIDTH - _LEFT - _RIGHT) / max(points.size, 1) / 2)
    along = Scale(float(points[0]), float(points[-1]), _LEFT + inset, WIDTH - _RIGHT - inset)
    x = along.places(points)
    up = Scale.around(np.concatenate([before.grid[row], after.grid[row]]), _UPPER[1], _UPPER[0], spare=0.06)
    every = differences(after, before)
    percent = in_percent(before)
    change = every[row] if every is not None else np.zeros(points.size)
    reach = max(float(np.abs(every).max()) if every is not None else 0.0, 1.0)
    down = Scale(-reach, reach, _LOWER[1], _LOWER[0])
    wide = min(float(np.diff(x).min()) * 0.7 if x.size > 1 else 20.0, 26.0)
    fills = diverging_steps(change, percent)
    zero = down.at(0.0)
    bars = tuple(
        ChangeBar(round(at - wide / 2, 1), min(place, zero), round(wide, 1), round(abs(place - zero), 1), fill)
        for at, place, fill in zip(x.tolist(), down.places(change).round(1).tolist(), fills.tolist(), strict=True)
    )
    return RowChange(
        polyline(x, up.places(before.grid[row])),
        polyline(x, up.places(after.grid[row])),
        tuple(zip(x.round(1).tolist(), up.places(after.grid[row]).round(1).tolist(), strict=True)),
        bars,
        zero,
        spread_out(x, [f"{point:.4g}" for point in points], 40.0),
        up.ticks(5),
        down.ticks(3, signed=True),
        after.unit,
        "%" if percent else after.unit,
        f"{after.x.title}, {after.x.unit}",
    )
