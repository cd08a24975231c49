"""Filling between the edges of an area: straight lines across or upwards, or both ways at once."""

from __future__ import annotations

from enum import StrEnum

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.area import Area, places
from uchiwa.core.tables.table import Table


class Direction(StrEnum):
    """Which way to fill."""

    ACROSS = "across"
    UP = "up"
    BOTH = "both"


def filled(table: Table, area: Area, direction: Direction) -> FloatArray:
    """Cells between the edges of an area, by the breakpoints' own spacing; the edges stay.

    `across` and `up` draw a straight line between the first and the last chosen cell of each row or column. `both`
    blends the four edges of a rectangle: the sum of the two straight-line fillings between opposite edges, less the
    bilinear one between the corners (Coons, *Surfaces for computer-aided design of space forms*, MIT, 1967).

    Returns:
        Shape (rows, columns); cells outside the area, and pinned ones, as they were.

    Raises:
        BadInput: there is nothing between the edges, or `both` is asked for cells that are not a whole rectangle.
    """
    if direction is Direction.BOTH:
        return _both_ways(table, area)
    axis = 1 if direction is Direction.ACROSS else 0
    along = places(table, axis)
    grid, chosen = (table.grid, area.chosen) if axis == 1 else (table.grid.T, area.chosen.T)
    result, between = grid.copy(), False
    for number, line in enumerate(chosen):
        at = np.flatnonzero(line)
        if at.size == 0 or at[-1] - at[0] < 2:
            continue
        between = True
        ends = along[[at[0], at[-1]]], grid[number, [at[0], at[-1]]]
        result[number, at] = np.interp(along[at], *ends)
    if not between:
        words = "next to each other" if axis == 1 else "above each other"
        raise BadInput("there is nothing between the edges", advice=f"choose at least three cells {words}")
    return np.where(area.open, result if axis == 1 else result.T, table.grid)


def _both_ways(table: Table, area: Area) -> FloatArray:
    rows, columns = area.rows, area.columns
    if not area.full:
        raise BadInput("filling both ways needs a whole rectangle", advice="choose one with Shift")
    inside = table.grid[rows, columns]
    if min(inside.shape) < 3:
        raise BadInput("there is nothing between the edges", advice="choose at least three rows and three columns")
    u, v = _share(places(table, 1)[columns])[None, :], _share(places(table, 0)[rows])[:, None]
    low, high, left, right = inside[:1], inside[-1:], inside[:, :1], inside[:, -1:]
    corners = (1 - u) * (1 - v) * inside[0, 0] + u * (1 - v) * inside[0, -1]
    corners = corners + (1 - u) * v * inside[-1, 0] + u * v * inside[-1, -1]
    result = table.grid.copy()
    blended = (1 - v) * low + v * high + (1 - u) * left + u * right - corners
    edge = np.ones(inside.shape, dtype=np.bool_)
    edge[1:-1, 1:-1] = False
    result[rows, columns] = np.where(edge, inside, blended)
    return np.where(area.open, result, table.grid)


def _share(points: FloatArray) -> FloatArray:
    share: FloatArray = (points - points[0]) / (points[-1] - points[0])
    return share
