"""What happens to cells that the evidence does not reach, and smoothing of those it does."""

from __future__ import annotations

import numpy as np

from uchiwa.core.log import BoolArray, FloatArray

FADE_CELLS = 4.0
DOUBT = 0.04
"""Standard error at which a continued surface is followed by half."""


def spread_outwards(factor: FloatArray, reached: BoolArray, fade: bool) -> FloatArray:
    """Factors for all cells, those not reached taking after the reached ones around them.

    A cell that was not reached takes the mean of the reached factors, weighted by 1/d⁴ of the distance in cells;
    with `fade` its difference from 1 falls linearly to nothing over `FADE_CELLS` cells from the nearest reached one.

    Args:
        factor: shape (rows, columns); only the reached ones are read.
        reached: shape (rows, columns).
        fade: fade to 1 with distance, or carry on undiminished.
    """
    if not reached.any():
        return np.ones(factor.shape)
    rows, columns = np.meshgrid(*(np.arange(size) for size in factor.shape), indexing="ij")
    known = np.argwhere(reached)
    distance = np.hypot(rows[..., None] - known[:, 0], columns[..., None] - known[:, 1])
    weight = 1.0 / np.maximum(distance, 1e-6) ** 4
    taken: FloatArray = (weight * factor[reached]).sum(axis=-1) / weight.sum(axis=-1)
    if fade:
        kept = np.clip(1.0 - distance.min(axis=-1) / FADE_CELLS, 0.0, 1.0)
        taken = 1.0 + (taken - 1.0) * kept
    return np.where(reached, factor, taken)


def continued_surface(factor: FloatArray, standard_error: FloatArray) -> FloatArray:
    """Factors of a surface beyond the evidence, drawn to 1 by how little is known of them: 1 + (f − 1)/(1 + (σ/0.04)²)."""
    followed: FloatArray = 1.0 + (factor - 1.0) / (1.0 + (standard_error / DOUBT) ** 2)
    return followed


def smoothed(factor: FloatArray, changed: BoolArray, percent: float) -> FloatArray:
    """Changed factors drawn by `percent` to the mean of their changed neighbours left, right, above and below.

    Cells outside the changed area neither move nor count.
    """
    if percent <= 0:
        return factor
    total = np.zeros(factor.shape)
    count = np.zeros(factor.shape)
    inner = np.where(changed, factor, 0.0)
    for axis in (0, 1):
        if factor.shape[axis] < 2:
            continue
        ahead = [slice(None), slice(None)]
        behind = [slice(None), slice(None)]
        ahead[axis], behind[axis] = slice(1, None), slice(None, -1)
        to, source = tuple(ahead), tuple(behind)
        total[to] += inner[source]
        count[to] += changed[source]
        total[source] += inner[to]
        count[source] += changed[to]
    with np.errstate(invalid="ignore", divide="ignore"):
        around = np.where(count > 0, total / count, factor)
    share = percent / 100.0
    return np.where(changed, factor * (1 - share) + around * share, factor)
