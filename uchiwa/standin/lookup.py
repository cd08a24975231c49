"""Scalar table lookup, quick enough for one call per simulated step."""

from __future__ import annotations

from bisect import bisect_right
from typing import Self

from uchiwa.core.table import Table


class Lookup:
    """Linear or bilinear interpolation of a table, held at its edges."""

    def __init__(self, x: list[float], y: list[float], values: list[list[float]]) -> None:
        self.x = x
        self.y = y
        self.values = values

    @classmethod
    def of(cls, table: Table) -> Self:
        """The lookup of a calibration's table or curve."""
        y = [float(point) for point in table.y.breakpoints] if table.y is not None else [0.0]
        return cls([float(point) for point in table.x.breakpoints], y, [list(map(float, row)) for row in table.grid])

    def __call__(self, x: float, y: float = 0.0) -> float:
        i, fx = _place(self.x, x)
        if len(self.y) == 1:
            row = self.values[0]
            return row[i] + (row[i + 1] - row[i]) * fx
        j, fy = _place(self.y, y)
        low, high = self.values[j], self.values[j + 1]
        below = low[i] + (low[i + 1] - low[i]) * fx
        above = high[i] + (high[i + 1] - high[i]) * fx
        return below + (above - below) * fy


def _place(points: list[float], value: float) -> tuple[int, float]:
    index = bisect_right(points, value) - 1
    if index < 0:
        return 0, 0.0
    if index >= len(points) - 1:
        return len(points) - 2, 1.0
    return index, (value - points[index]) / (points[index + 1] - points[index])
