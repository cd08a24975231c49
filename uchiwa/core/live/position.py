"""Where the engine is in a table at single rows, worked out many times a second."""

from __future__ import annotations

from bisect import bisect_right

import numpy as np

from uchiwa.core.live.growth import Growth
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Axis, Table
from uchiwa.core.viewing.operating import Operating

_FROM_PRESSURE = {"pressure_ratio", "boost_pressure"}


class _Along:
    """One axis: its breakpoints, and its unit against the canonical one."""

    def __init__(self, axis: Axis) -> None:
        self.quantity = axis.quantity
        none, one = convert(np.array([0.0, 1.0]), QUANTITIES[axis.quantity].unit, axis.unit)
        self.scale, self.offset = float(one - none), float(none)
        self.points: list[float] = axis.breakpoints.tolist()
        self.low = self.points[0] - 0.5 * (self.points[1] - self.points[0])
        self.high = self.points[-1] + 0.5 * (self.points[-1] - self.points[-2])

    def place(self, value: float) -> float:
        """As a fraction of breakpoints: 0 is the first; beyond either end it stays there."""
        points = self.points
        below = min(max(bisect_right(points, value) - 1, 0), len(points) - 2)
        return below + min(max((value - points[below]) / (points[below + 1] - points[below]), 0.0), 1.0)

    def nearest(self, value: float) -> int | None:
        """The nearest breakpoint; None more than half a cell beyond the axis."""
        if not self.low <= value <= self.high:
            return None
        points = self.points
        below = min(max(bisect_right(points, value) - 1, 0), len(points) - 2)
        return below + (value >= (points[below] + points[below + 1]) / 2)


class Position:
    """Places in one table.

    Args:
        table: a table or curve.
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        self.x = _Along(table.x)
        self.y = _Along(table.y) if table.y is not None else None

    def at(self, growth: Growth, rows: list[int]) -> Operating | str:
        """Where the engine is at the last of some rows, and how it came there; or the quantity that was not recorded.

        Args:
            growth: the log so far.
            rows: in their order, at least one.
        """
        trail: list[tuple[float, float]] = []
        x = y = float("nan")
        for row in rows:
            found = self._read(growth, self.x, row)
            if isinstance(found, str):
                return found
            x, y = found, float("nan")
            if self.y is not None:
                up = self._read(growth, self.y, row)
                if isinstance(up, str):
                    return up
                y = up
            if x == x and (self.y is None or y == y):
                trail.append((round(self.x.place(x), 3), round(self.y.place(y), 3) if self.y is not None else 0.0))
        here = x == x and (self.y is None or y == y)
        i = self.x.nearest(x) if here else None
        j = (self.y.nearest(y) if self.y is not None else 0) if here else None
        if i is None or j is None:
            i = j = None
        return Operating(i, j, x, y if self.y is not None else None, None, tuple(trail))

    def cell(self, growth: Growth, row: int) -> tuple[int, int] | str | None:
        """The cell [i, j] at a row, None off the table or without a reading; or the quantity that was not recorded."""
        x = self._read(growth, self.x, row)
        if isinstance(x, str):
            return x
        i, j = self.x.nearest(x), 0
        if self.y is not None:
            y = self._read(growth, self.y, row)
            if isinstance(y, str):
                return y
            up = self.y.nearest(y)
            if up is None:
                return None
            j = up
        return None if i is None else (i, j)

    def _read(self, growth: Growth, along: _Along, row: int) -> float | str:
        """A reading along an axis in the axis's unit, NaN without one; or the quantity that was not recorded."""
        value = _value(growth, along.quantity, row)
        if isinstance(value, str):
            return value
        return value * along.scale + along.offset


def _value(growth: Growth, quantity: str, row: int) -> float | str:
    if quantity in growth:
        return growth.reading(quantity, row)
    if quantity in _FROM_PRESSURE and "manifold_pressure" in growth and "barometric_pressure" in growth:
        pressure, barometer = growth.reading("manifold_pressure", row), growth.reading("barometric_pressure", row)
        if quantity == "boost_pressure":
            return pressure - barometer
        return pressure / barometer if barometer else float("nan")
    if quantity == "manifold_pressure" and "boost_pressure" in growth and "barometric_pressure" in growth:
        return growth.reading("boost_pressure", row) + growth.reading("barometric_pressure", row)
    return quantity
