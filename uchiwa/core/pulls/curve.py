"""A pull's readings as a curve over engine speed, and how ragged it is about that curve."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray

GRID_RPM = 50.0
WINDOW_RPM = 400.0
_LEAST = 4


def speed_grid(low: float, high: float, step: float = GRID_RPM) -> FloatArray:
    """Round engine speeds from `low` to `high`, rpm."""
    first, last = np.ceil(low / step), np.floor(high / step)
    return np.arange(first, last + 1) * step


def over_speed(speed: FloatArray, values: FloatArray, grid: FloatArray, window: float = WINDOW_RPM) -> FloatArray:
    """Values at the speeds of a grid, by local regression: a parabola with tricube weights around each.

    After W. S. Cleveland 1979. Nothing is drawn beyond the speeds that were run: there, and where fewer than four
    samples lie in the window, the result is NaN. `window` 0 joins the samples as they are.

    Args:
        speed: rpm; shape (n,), in any order.
        values: shape (n,); NaN is left out.
        grid: rpm; shape (m,).
        window: rpm from end to end.
    """
    use = np.isfinite(speed) & np.isfinite(values)
    result = np.full(grid.shape, np.nan)
    if int(use.sum()) < _LEAST:
        return result
    order = np.argsort(speed[use], kind="stable")
    x, y = speed[use][order], values[use][order]
    if window <= 0:
        return np.interp(grid, x, y, left=np.nan, right=np.nan)
    first = np.searchsorted(x, grid - window / 2)
    last = np.searchsorted(x, grid + window / 2)
    for at, centre in enumerate(grid):
        if last[at] - first[at] < _LEAST or centre < x[0] - window / 8 or centre > x[-1] + window / 8:
            continue
        d = (x[first[at] : last[at]] - centre) / (window / 2)
        weight = np.sqrt((1.0 - np.minimum(np.abs(d), 1.0) ** 3) ** 3)
        both = d.min() < -0.3 and d.max() > 0.3
        design = np.vander(d, 3 if both and d.size > 4 else 2, increasing=True)
        answer, *_ = np.linalg.lstsq(design * weight[:, None], y[first[at] : last[at]] * weight, rcond=None)
        result[at] = answer[0]
    return result


def raggedness(torque: FloatArray) -> float:
    """How much torque jumps from sample to sample, as a share of its mean: √(Σ(Tₙ₊₁ − Tₙ)² / 2(n − 1)) / mean.

    The mean square of successive differences (J. von Neumann 1941) leaves the curve itself out of account, whatever
    its shape. Only runs recorded alike may be compared.

    Args:
        torque: Nm in the order of recording; shape (n,). NaN breaks the series.

    Returns:
        The share, or NaN for fewer than five differences.
    """
    steps = np.diff(torque)
    steps = steps[np.isfinite(steps)]
    if steps.size < 5:
        return float("nan")
    mean = float(np.nanmean(torque))
    return float(np.sqrt((steps**2).mean() / 2.0) / mean) if mean > 0 else float("nan")
