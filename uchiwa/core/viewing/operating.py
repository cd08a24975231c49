"""Where in a table the engine was, and when it was in a cell."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.signal import spans
from uchiwa.core.tables.table import Table

MOST_TRAIL = 240
_BRIDGE_S = 0.3


@dataclass(frozen=True)
class Operating:
    """The operating point in a table.

    Attributes:
        i, j: the nearest cell; None where an axis has no reading or lies off the table.
        x, y: readings along the axes, in their units; y is None for a curve.
        value: what the controller looks up there.
        trail: places before it as fractions of cells (0 is the first breakpoint), oldest first; the last is the point.
    """

    i: int | None
    j: int | None
    x: float
    y: float | None
    value: float | None
    trail: tuple[tuple[float, float], ...]


def operating_point(table: Table, x: FloatArray, y: FloatArray | None) -> Operating:
    """The operating point at the last of some samples, with the trail of those before it.

    Args:
        table: a table or curve.
        x, y: readings along its axes in the axes' units, in order of time; shape (n,), n ≥ 1.
    """
    across = _fraction(table, x, "x")
    up = _fraction(table, y, "y") if y is not None and table.y is not None else np.zeros(x.shape)
    known = np.isfinite(across) & np.isfinite(up)
    path = np.flatnonzero(known)
    if path.size > MOST_TRAIL:
        path = path[np.unique(np.linspace(0, path.size - 1, MOST_TRAIL).astype(np.int64))]
    trail = tuple((round(float(across[k]), 3), round(float(up[k]), 3)) for k in path)
    here = known[-1]
    value = float(table.lookup(x[-1:], y[-1:] if y is not None else None)[0]) if here else None
    covered = bool(table.x.covers(x[-1:])[0]) and (y is None or table.y is None or bool(table.y.covers(y[-1:])[0]))
    return Operating(
        int(table.x.nearest(x[-1:])[0]) if here and covered else None,
        (int(table.y.nearest(y[-1:])[0]) if table.y is not None and y is not None else 0) if here and covered else None,
        float(x[-1]),
        float(y[-1]) if y is not None else None,
        value,
        trail,
    )


def _fraction(table: Table, values: FloatArray, which: str) -> FloatArray:
    axis = table.x if which == "x" or table.y is None else table.y
    below, share = axis.place(np.nan_to_num(values))
    return np.where(np.isfinite(values), below + share, np.nan)


def moments_in(
    table: Table, time: FloatArray, x: FloatArray, y: FloatArray | None, cells: Collection[tuple[int, int]]
) -> list[tuple[float, float]]:
    """Stretches in which the nearest cell was one of some cells.

    Args:
        table: a table or curve.
        time: s, rising; shape (n,).
        x, y: readings along its axes in the axes' units; shape (n,).
        cells: as (i, j).
    """
    known = np.isfinite(x) & table.x.covers(x)
    at = table.x.nearest(np.nan_to_num(x))
    if y is not None and table.y is not None:
        known &= np.isfinite(y) & table.y.covers(y)
        at = at + table.x.size * table.y.nearest(np.nan_to_num(y))
    wanted = np.zeros(table.shape[0] * table.shape[1], dtype=np.bool_)
    for i, j in cells:
        if 0 <= i < table.shape[1] and 0 <= j < table.shape[0]:
            wanted[j * table.shape[1] + i] = True
    return spans(time, known & wanted[at], bridge=_BRIDGE_S)
