"""Where the engine is in a table at the newest rows, worked out many times a second."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.live.growth import Growth
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Axis, Table
from uchiwa.core.viewing.operating import Operating

LONGEST_STEP_S = 0.5
"""A longer time between two rows is a gap that belongs to no cell."""


def _over(reading: FloatArray, other: FloatArray) -> FloatArray:
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(other != 0.0, reading / other, np.nan)


_DERIVED: dict[str, tuple[str, str, Callable[[FloatArray, FloatArray], FloatArray]]] = {
    "boost_pressure": ("manifold_pressure", "barometric_pressure", np.subtract),
    "pressure_ratio": ("manifold_pressure", "barometric_pressure", _over),
    "manifold_pressure": ("boost_pressure", "barometric_pressure", np.add),
}
"""How an axis that was not recorded follows from two channels that were."""


class Along:
    """One axis: its breakpoints, and its unit against the canonical one."""

    def __init__(self, axis: Axis) -> None:
        self.quantity = axis.quantity
        none, one = convert(np.array([0.0, 1.0]), QUANTITIES[axis.quantity].unit, axis.unit)
        self.scale, self.offset = float(one - none), float(none)
        self.points: FloatArray = axis.breakpoints
        self._numbers = np.arange(float(self.points.size))
        self._between = (self.points[:-1] + self.points[1:]) / 2
        self._low = self.points[0] - 0.5 * (self.points[1] - self.points[0])
        self._high = self.points[-1] + 0.5 * (self.points[-1] - self.points[-2])

    def readings(self, growth: Growth, first: int) -> FloatArray | None:
        """Readings from a row on, in the axis's unit, NaN without one, shape (n,); None if its quantity was not recorded."""
        if self.quantity in growth:
            return growth.held(self.quantity, first) * self.scale + self.offset
        one, other, derived = _DERIVED.get(self.quantity, ("", "", np.add))
        if one not in growth or other not in growth:
            return None
        found: FloatArray = derived(growth.held(one, first), growth.held(other, first)) * self.scale + self.offset
        return found

    def places(self, readings: FloatArray) -> FloatArray:
        """As fractions of breakpoints: 0 is the first; beyond either end they stay there; NaN without a reading."""
        found: FloatArray = np.interp(readings, self.points, self._numbers)
        return found

    def nearest(self, readings: FloatArray) -> NDArray[np.int64]:
        """The nearest breakpoints."""
        return np.searchsorted(self._between, readings, side="right")

    def covers(self, readings: FloatArray) -> BoolArray:
        """Which of them are on the axis, or at most half a cell beyond it."""
        found: BoolArray = (readings >= self._low) & (readings <= self._high)
        return found


class Position:
    """Places in one table.

    Args:
        table: a table or curve.
    """

    def __init__(self, table: Table) -> None:
        self.table = table
        self.x = Along(table.x)
        self.y = Along(table.y) if table.y is not None else None

    def at(self, growth: Growth, rows: Sequence[int]) -> Operating | str:
        """Where the engine is at the last of some rows, and how it came there; or the quantity that was not recorded.

        Args:
            growth: the log so far.
            rows: rising, at least one.
        """
        here = np.asarray(rows) - rows[0]
        x = self.x.readings(growth, rows[0])
        if x is None:
            return self.x.quantity
        x = x[here]
        last, i, known = float(x[-1]), int(self.x.nearest(x[-1:])[0]), bool(self.x.covers(x[-1:])[0])
        across = self.x.places(x)
        if self.y is None:
            trail = tuple((one, 0.0) for one in across.round(3).tolist() if one == one)
            return Operating(i if known else None, 0 if known else None, last, None, None, trail)
        y = self.y.readings(growth, rows[0])
        if y is None:
            return self.y.quantity
        y = y[here]
        known = known and bool(self.y.covers(y[-1:])[0])
        up = self.y.places(y)
        both = zip(across.round(3).tolist(), up.round(3).tolist(), strict=True)
        trail = tuple((one, other) for one, other in both if one == one and other == other)
        j = int(self.y.nearest(y[-1:])[0]) if known else None
        return Operating(i if known else None, j, last, float(y[-1]), None, trail)

    def durations(self, growth: Growth, first: int) -> tuple[NDArray[np.int64], NDArray[np.int64], FloatArray] | str:
        """From a row on, which cell each row is in, and the time until the next row; or the quantity that was not recorded.

        Returns:
            Columns, rows, and seconds, 0 where there is no cell or the next row is too far; shape (n − 1,) each.
        """
        x = self.x.readings(growth, first)
        if x is None:
            return self.x.quantity
        x, seconds = x[:-1], np.diff(growth.time[first:])
        known = self.x.covers(x) & (seconds <= LONGEST_STEP_S)
        i = self.x.nearest(x)
        if self.y is None:
            return i, np.zeros_like(i), np.where(known, seconds, 0.0)
        y = self.y.readings(growth, first)
        if y is None:
            return self.y.quantity
        y = y[:-1]
        known &= self.y.covers(y)
        return i, self.y.nearest(y), np.where(known, seconds, 0.0)
