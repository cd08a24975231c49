"""Smoothing that takes out kinks and leaves slopes."""

from __future__ import annotations

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.area import Area, places
from uchiwa.core.tables.table import Table


def smoothed(table: Table, area: Area, percent: float, passes: int = 1) -> FloatArray:
    """Chosen cells drawn towards the straight line between their neighbours.

    Where a cell has neighbours on both sides in a direction, the line between those two says what it would be, by the
    breakpoints' spacing; of two directions the mean counts. So a plane stays as it is, however steep, and only what
    bends is flattened. Cells that are not chosen, and pinned ones, keep their values and count as neighbours.

    Args:
        percent: how far each cell goes to its line, over 0 to 100.
        passes: how often, 1 to 20.

    Raises:
        BadInput: the strength or the number of passes is out of range.
    """
    if not 0 < percent <= 100:
        raise BadInput(f"smoothing by {percent:g} % is not possible", advice="give more than 0 and at most 100 %")
    if not 1 <= passes <= 20:
        raise BadInput(f"smoothing {passes} times is not possible", advice="give 1 to 20")
    grid = table.grid.copy()
    for _ in range(passes):
        total, count = np.zeros(grid.shape), np.zeros(grid.shape)
        for axis in (0, 1):
            line = _between(grid, places(table, axis), axis)
            there = np.isfinite(line)
            total[there] += line[there]
            count += there
        target = np.where(count > 0, total / np.maximum(count, 1), grid)
        grid = np.where(area.open, grid + percent / 100.0 * (target - grid), grid)
    return grid


def _between(grid: FloatArray, points: FloatArray, axis: int) -> FloatArray:
    """What the line between a cell's two neighbours along an axis gives at the cell; NaN at the ends."""
    result = np.full(grid.shape, np.nan)
    if grid.shape[axis] < 3:
        return result
    values = np.moveaxis(grid, axis, -1)
    share = (points[1:-1] - points[:-2]) / (points[2:] - points[:-2])
    np.moveaxis(result, axis, -1)[..., 1:-1] = values[..., :-2] * (1 - share) + values[..., 2:] * share
    return result
