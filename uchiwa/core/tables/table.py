"""Axis, Table and Calibration: what a controller looks values up in."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.zones import Zone, zone_surface

LARGEST = 1e12
"""Values, breakpoints and constants of a calibration go up to this, which no controller comes near."""


def frozen(values: Sequence[float] | Sequence[Sequence[float]] | FloatArray) -> FloatArray:
    """A read-only float copy."""
    array = np.array(values, dtype=np.float64)
    array.setflags(write=False)
    return array


@dataclass(frozen=True, eq=False)
class Axis:
    """The breakpoints of a table in one direction.

    Attributes:
        quantity: id of the quantity looked up along it.
        unit: unit of the breakpoints.
        breakpoints: strictly rising; shape (n,), n ≥ 2.
    """

    quantity: str
    unit: str
    breakpoints: FloatArray

    @property
    def title(self) -> str:
        """The quantity's words."""
        known = QUANTITIES.get(self.quantity)
        return known.title if known else self.quantity

    @property
    def size(self) -> int:
        """Number of breakpoints."""
        return int(self.breakpoints.size)

    def place(self, values: FloatArray) -> tuple[IntArray, FloatArray]:
        """Where values lie: index of the breakpoint below (0 … n−2) and the fraction 0 … 1 towards the next.

        Beyond either end the fraction stays at that end, as a controller's lookup does.
        """
        points = self.breakpoints
        below = np.clip(np.searchsorted(points, values, side="right") - 1, 0, points.size - 2).astype(np.int64)
        fraction = (values - points[below]) / (points[below + 1] - points[below])
        return below, np.clip(fraction, 0.0, 1.0)

    def nearest(self, values: FloatArray) -> IntArray:
        """Index of the nearest breakpoint; borders lie midway between breakpoints and belong to the upper one."""
        middle = (self.breakpoints[1:] + self.breakpoints[:-1]) / 2
        return np.searchsorted(middle, values, side="right").astype(np.int64)

    def near(self, values: FloatArray, share: float) -> BoolArray:
        """Whether values lie within a share of their cell's half-width, on their side of its breakpoint.

        Args:
            values: in the axis's unit.
            share: 0 … 1; 1 is the whole cell.
        """
        nearest = self.breakpoints[self.nearest(values)]
        below, _ = self.place(values)
        half = (self.breakpoints[below + 1] - self.breakpoints[below]) / 2
        close: BoolArray = np.abs(values - nearest) <= share * half
        return close

    def covers(self, values: FloatArray) -> BoolArray:
        """Whether values lie within the axis, or beyond its ends by no more than half the last spacing."""
        points = self.breakpoints
        low = points[0] - 0.5 * (points[1] - points[0])
        high = points[-1] + 0.5 * (points[-1] - points[-2])
        inside: BoolArray = (values >= low) & (values <= high)
        return inside


@dataclass(frozen=True, eq=False)
class Table:
    """A table over two axes, or a curve over one (`y` is None).

    Attributes:
        id, title: its identifier and the words shown.
        role: what a controller uses it for (`volumetric_efficiency`, …, or `other`).
        unit: of its values.
        values: shape (y.size, x.size), or (x.size,) for a curve.
        minimum, maximum: limits of a value, or None.
        decimals: digits shown and kept after the point.
        zones: polynomials in whose place the values stand, where the controller holds it so; `values` are theirs.
    """

    id: str
    title: str
    role: str
    unit: str
    x: Axis
    y: Axis | None
    values: FloatArray
    minimum: float | None = None
    maximum: float | None = None
    decimals: int = 2
    zones: tuple[Zone, ...] = ()

    @property
    def shape(self) -> tuple[int, int]:
        """(rows, columns); a curve has one row."""
        return (self.y.size if self.y is not None else 1, self.x.size)

    @property
    def grid(self) -> FloatArray:
        """The values as (rows, columns)."""
        return self.values.reshape(self.shape)

    def with_grid(self, grid: FloatArray) -> Table:
        """The same table with other values; `grid` has shape (rows, columns).

        Raises:
            BadInput: a value is larger than anything that a controller holds.
        """
        if not (np.abs(grid) <= LARGEST).all():
            raise BadInput(
                f"values may go up to ±{LARGEST:g}", where=self.title, advice="look at what makes them so large"
            )
        return replace(self, values=frozen(grid.reshape(self.values.shape)))

    def with_zones(self, zones: tuple[Zone, ...]) -> Table:
        """The same table by other polynomials; its values become theirs."""
        if self.y is None:
            raise TypeError(f"table {self.id} is a curve and has no zones")
        values = zone_surface(zones, self.x.breakpoints, self.y.breakpoints, self.grid)
        return replace(self, zones=zones, values=frozen(self.rounded(values)))

    def rounded(self, grid: FloatArray) -> FloatArray:
        """Values at the table's own precision and within its limits."""
        low = -np.inf if self.minimum is None else self.minimum
        high = np.inf if self.maximum is None else self.maximum
        clipped: FloatArray = np.clip(np.round(grid, self.decimals), low, high)
        return clipped

    def lookup(self, x: FloatArray, y: FloatArray | None = None) -> FloatArray:
        """Linear or bilinear interpolation, held at the edges, as the controller does it; NaN in gives NaN out."""
        i, fx = self.x.place(x)
        if self.y is None:
            return self.values[i] * (1 - fx) + self.values[i + 1] * fx
        if y is None:
            raise TypeError(f"table {self.id} has two axes: both are needed for a lookup")
        j, fy = self.y.place(y)
        grid = self.values
        lower = grid[j, i] * (1 - fx) + grid[j, i + 1] * fx
        upper = grid[j + 1, i] * (1 - fx) + grid[j + 1, i + 1] * fx
        return lower * (1 - fy) + upper * fy


@dataclass(frozen=True)
class Constant:
    """A single number of a calibration."""

    id: str
    role: str
    value: float
    unit: str


@dataclass(frozen=True)
class Calibration:
    """All tables and constants of one controller."""

    id: str
    title: str
    constants: tuple[Constant, ...] = ()
    tables: tuple[Table, ...] = field(default=())

    def table(self, table_id: str) -> Table:
        """The table of this id.

        Raises:
            KeyError: there is none.
        """
        for table in self.tables:
            if table.id == table_id:
                return table
        raise KeyError(table_id)

    def by_role(self, role: str) -> tuple[Table, ...]:
        """All tables of a role, in order."""
        return tuple(table for table in self.tables if table.role == role)

    def constant(self, role: str) -> float | None:
        """The value of the constant of a role, or None."""
        return next((constant.value for constant in self.constants if constant.role == role), None)

    def with_table(self, table: Table) -> Calibration:
        """The calibration with the table of the same id replaced."""
        return replace(self, tables=tuple(table if old.id == table.id else old for old in self.tables))
