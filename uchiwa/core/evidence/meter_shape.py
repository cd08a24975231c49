"""How an airflow meter's curve bends between its breakpoints."""

from __future__ import annotations

import numpy as np
from scipy.interpolate import PchipInterpolator

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table


def monotone_cubic(points: FloatArray, values: FloatArray, at: FloatArray) -> FloatArray:
    """A smooth curve through points that neither overshoots nor turns between them; beyond the ends their values are held.

    Piecewise cubic with the slopes of Fritsch and Butland (*SIAM J. Sci. Stat. Comput.* 5, 1984).

    Args:
        points: strictly rising; shape (n,), n ≥ 2.
        values: shape (n,).
        at: where; any shape.
    """
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        curve = PchipInterpolator(points, values)
    return np.asarray(curve(np.clip(at, points[0], points[-1])), dtype=np.float64)


def straight_over_bent(table: Table, at: FloatArray) -> FloatArray:
    """How much more a meter's curve gives by straight lines between its points than bent as such a meter bends.

    The bent curve is a smooth one through the square roots of the airflow: by King's law (*Phil. Trans. R. Soc.* A 214,
    1914) a heated wire's signal follows about the root of the flow, so that the root is nearly straight over it. What
    the straight lines give too much between two points is no error of the points.

    Args:
        table: a curve of airflow, rising from 0 or more.
        at: places along its axis; shape (n,).
    """
    points, values = table.x.breakpoints, table.grid[0]
    if (values < 0).any() or (np.diff(values) < 0).any():
        return np.ones(at.shape)
    bent = monotone_cubic(points, np.sqrt(values), at) ** 2
    straight = np.interp(at, points, values)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where(bent > 0, straight / bent, 1.0)
