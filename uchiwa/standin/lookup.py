"""Scalar table lookup, quick enough for one call per simulated step."""

from __future__ import annotations

from bisect import bisect_right
from typing import Self

from uchiwa.core.tables.table import Table


class Lookup:
    """Linear or bilinear interpolation of a table, held at its edges."""

    def __init__(self, x: list[float], y: list[float], values: list[list[float]]) -> None:
        self.x = x
        self.y = y
        self.values = values
        self._last_x, self._last_y = len(x) - 1, len(y) - 1

    @classmethod
    def of(cls, table: Table) -> Self:
        """The lookup of a calibration's table or curve."""
        y = [float(point) for point in table.y.breakpoints] if table.y is not None else [0.0]
        return cls([float(point) for point in table.x.breakpoints], y, [list(map(float, row)) for row in table.grid])

    def __call__(self, x: float, y: float = 0.0) -> float:
        points = self.x
        i = bisect_right(points, x) - 1
        if i < 0:
            i, fx = 0, 0.0
        elif i >= self._last_x:
            i, fx = self._last_x - 1, 1.0
        else:
            fx = (x - points[i]) / (points[i + 1] - points[i])
        if self._last_y < 1:
            row = self.values[0]
            return row[i] + (row[i + 1] - row[i]) * fx
        points = self.y
        j = bisect_right(points, y) - 1
        if j < 0:
            j, fy = 0, 0.0
        elif j >= self._last_y:
            j, fy = self._last_y - 1, 1.0
        else:
            fy = (y - points[j]) / (points[j + 1] - points[j])
        low, high = self.values[j], self.values[j + 1]
        below = low[i] + (low[i + 1] - low[i]) * fx
        above = high[i] + (high[i + 1] - high[i]) * fx
        return below + (above - below) * fy
