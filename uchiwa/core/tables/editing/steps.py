"""No ledge between neighbours above a limit."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.table import Table


class LedgeDirection(StrEnum):
    """Whether ledges may be taken down only, or evened out from both sides."""

    LOWER = "lower"
    BOTH = "both"


def limited(table: Table, area: Area, most: float, way: LedgeDirection) -> FloatArray:
    """Chosen cells moved until no step to a neighbour left, right, above or below exceeds a limit.

    `lower` gives the highest values nowhere above the old ones that keep the limit: T′ᵢ = minⱼ(Tⱼ + most·distanceᵢⱼ).
    `both` goes half-way between that and its mirror image from above, and then only as far as the cells that must
    not move allow. A step between two cells that must not move stays, and so does one that only raising could mend
    when `lower` is asked for.

    Args:
        most: the largest step per cell, in the table's unit; rounded down to the table's own precision, so that the
            limit holds for the values as they are kept.

    Raises:
        BadInput: the limit is not above 0.
    """
    if not most > 0:
        raise BadInput("a limit of steps is above 0", advice="give the most that a step may be, such as 3")
    grid, free = table.grid, area.open
    near = free | _beside(free)
    fine = 10.0**table.decimals
    most = max(np.floor(most * fine + 1e-6), 1.0) / fine
    lowered = _lowered(np.where(near, grid, np.inf), free, most)
    if way is LedgeDirection.LOWER:
        down = np.where(lowered < grid, np.floor(lowered * fine + 1e-6) / fine, lowered)
        return np.where(free, down, grid)
    raised = -_lowered(np.where(near, -grid, np.inf), free, most)
    fixed = near & ~free
    ceiling = _lowered(np.where(fixed, grid, np.inf), free, most)
    floor = -_lowered(np.where(fixed, -grid, np.inf), free, most)
    with np.errstate(invalid="ignore"):
        between = np.where(floor <= ceiling, np.clip((lowered + raised) / 2, floor, ceiling), (floor + ceiling) / 2)
    moved = free & (np.abs(between - grid) > 0.5 / fine)
    rounded = np.where(moved, np.round(between, table.decimals), grid)
    return np.where(free, _lowered(np.where(near, rounded, np.inf), free, most), grid)


def steps_above(grid: FloatArray, most: float) -> BoolArray:
    """Cells of which a step to a neighbour exceeds a limit; a hair of rounding is allowed for."""
    over = np.zeros(grid.shape, dtype=np.bool_)
    for axis in (0, 1):
        ledge = np.abs(np.diff(grid, axis=axis)) > most * (1 + 1e-9) + 1e-12
        first, second = (_cut(over, axis, part) for part in (slice(None, -1), slice(1, None)))
        first |= ledge
        second |= ledge
    return over


def _cut(array: BoolArray, axis: int, part: slice) -> BoolArray:
    return array[part] if axis == 0 else array[:, part]


def _beside(mask: BoolArray) -> BoolArray:
    """Cells next to a mask."""
    padded = np.pad(mask, 1)
    around: BoolArray = padded[:-2, 1:-1] | padded[2:, 1:-1] | padded[1:-1, :-2] | padded[1:-1, 2:]
    return around


def _lowered(values: FloatArray, free: BoolArray, most: float) -> FloatArray:
    """The highest values, nowhere above the given ones, that keep the limit by moving free cells only."""
    result = values.copy()
    while True:
        padded = np.pad(result, 1, constant_values=np.inf)
        lowest = np.minimum(
            np.minimum(padded[:-2, 1:-1], padded[2:, 1:-1]), np.minimum(padded[1:-1, :-2], padded[1:-1, 2:])
        )
        following = np.where(free, np.minimum(result, lowest + most), result)
        if np.array_equal(following, result):
            return result
        result = following
