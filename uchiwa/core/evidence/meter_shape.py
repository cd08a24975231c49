"""How an airflow meter's curve bends between its breakpoints."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table


def monotone_cubic(points: FloatArray, values: FloatArray, at: FloatArray) -> FloatArray:
    """A smooth curve through points that neither overshoots nor turns between them.

    Piecewise cubic with the slopes of Fritsch and Butland (*SIAM J. Sci. Stat. Comput.* 5, 1984); beyond the ends the
    end values are held.

    Args:
        points: strictly rising; shape (n,), n ≥ 2.
        values: shape (n,).
        at: where; any shape.
    """
    step = np.diff(points)
    secant = np.diff(values) / step
    slope = np.empty(points.size)
    if points.size == 2:
        slope[:] = secant[0]
    else:
        before, after = step[:-1], step[1:]
        w1, w2 = 2 * after + before, after + 2 * before
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            harmonic = (w1 + w2) / (w1 / secant[:-1] + w2 / secant[1:])
        slope[1:-1] = np.where(secant[:-1] * secant[1:] > 0, harmonic, 0.0)
        slope[0] = _end(step[0], step[1], secant[0], secant[1])
        slope[-1] = _end(step[-1], step[-2], secant[-1], secant[-2])
    held = np.clip(at, points[0], points[-1])
    k = np.clip(np.searchsorted(points, held, side="right") - 1, 0, points.size - 2)
    t, h = (held - points[k]) / step[k], step[k]
    result: FloatArray = (
        values[k] * (1 + 2 * t) * (1 - t) ** 2
        + slope[k] * h * t * (1 - t) ** 2
        + values[k + 1] * t**2 * (3 - 2 * t)
        - slope[k + 1] * h * t**2 * (1 - t)
    )
    return result


def _end(near: float, far: float, secant: float, next_secant: float) -> float:
    slope = ((2 * near + far) * secant - near * next_secant) / (near + far)
    if slope * secant <= 0:
        return 0.0
    return 3 * secant if secant * next_secant < 0 and abs(slope) > 3 * abs(secant) else slope


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
