"""What happens to cells that the evidence does not reach, and smoothing of those it does."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import label

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.orientation import load_axis
from uchiwa.core.tables.table import Table

FADE_CELLS = 4.0
"""Cells over which a factor fades to nothing, at most."""
DOUBT = 0.04
"""Standard error at which a continued surface is followed by half."""
_SURFACE_REACH = 1.5
_TOUCHING = np.ones((3, 3))


def _distances(reached: BoolArray) -> tuple[FloatArray, FloatArray]:
    """Distance in cells from each cell to each reached one, (rows, columns, known), and to the nearest, (rows, columns)."""
    rows, columns = np.meshgrid(*(np.arange(size) for size in reached.shape), indexing="ij")
    known = np.argwhere(reached)
    distance = np.hypot(rows[..., None] - known[:, 0], columns[..., None] - known[:, 1])
    return distance, distance.min(axis=-1)


def _bounds(factor: FloatArray, reached: BoolArray) -> tuple[FloatArray, FloatArray, BoolArray]:
    """Least and greatest deviation from 1 among the nearest reached cells and nought, and which cells those are."""
    distance, least = _distances(reached)
    nearest = distance <= least[..., None] + 1e-9
    deviation = factor[reached] - 1.0
    low = np.where(nearest, deviation, np.inf).min(axis=-1)
    high = np.where(nearest, deviation, -np.inf).max(axis=-1)
    return np.minimum(low, 0.0), np.maximum(high, 0.0), nearest


def fade_reach(reached: BoolArray) -> FloatArray:
    """Cells over which each reached cell's factor fades: 1 + √n for a patch of n touching ones, at most `FADE_CELLS`.

    A corner that was run alone says little of what lies far from it.
    """
    patches, count = label(reached, structure=_TOUCHING)
    sizes = np.bincount(patches.ravel(), minlength=count + 1).astype(np.float64)
    return np.where(reached, np.minimum(1.0 + np.sqrt(sizes[patches]), FADE_CELLS), 0.0)


def spread_outwards(factor: FloatArray, reached: BoolArray, fade: bool) -> FloatArray:
    """Factors for all cells, those not reached taking after the reached ones around them.

    With `fade` a cell takes the mean of the reached factors, weighted by 1/d⁴ of the distance in cells, and its
    difference from 1 falls linearly to nothing over `fade_reach` cells from the nearest reached one. Without, the factor of
    the nearest reached cell is carried on undiminished; of several as near, their mean. No cell moves further than the
    nearest reached ones.

    Args:
        factor: shape (rows, columns); only the reached ones are read.
        reached: shape (rows, columns).
        fade: fade to 1 with distance, or carry on.
    """
    if not reached.any():
        return np.ones(factor.shape)
    distance, least = _distances(reached)
    low, high, nearest = _bounds(factor, reached)
    if fade:
        weight = 1.0 / np.maximum(distance, 1e-6) ** 4
        reach = np.where(nearest, fade_reach(reached)[reached], 0.0).max(axis=-1)
        kept = np.clip(1.0 - least / np.maximum(reach, 1e-9), 0.0, 1.0)
    else:
        weight, kept = nearest.astype(np.float64), np.ones(factor.shape)
    mean = (weight * (factor[reached] - 1.0)).sum(axis=-1) / weight.sum(axis=-1)
    taken = 1.0 + np.clip(mean, low, high) * kept
    return np.where(reached, factor, taken)


def continued_surface(
    factor: FloatArray, standard_error: FloatArray, measured: FloatArray, reached: BoolArray
) -> FloatArray:
    """Factors of a surface beyond the evidence: 1 + (f − 1)/(1 + (σ/0.04)²), drawn to 1 by how little is known of them.

    No cell moves further than the nearest measured ones, and ever less with distance, until nothing is left one and a half
    times `fade_reach` cells away.

    Args:
        factor, standard_error: of the surface; shape (rows, columns).
        measured: factors of the reached cells; shape (rows, columns).
        reached: shape (rows, columns).
    """
    if not reached.any():
        return np.ones(factor.shape)
    followed = (factor - 1.0) / (1.0 + (standard_error / DOUBT) ** 2)
    _, least = _distances(reached)
    low, high, nearest = _bounds(measured, reached)
    reach = np.where(nearest, fade_reach(reached)[reached], 0.0).max(axis=-1)
    kept = np.clip(1.0 - least / np.maximum(_SURFACE_REACH * reach, 1e-9), 0.0, 1.0)
    beyond: FloatArray = 1.0 + np.clip(followed, low * kept, high * kept)
    return np.where(reached, measured, beyond)


def above_measured_load(table: Table, reached: BoolArray) -> BoolArray:
    """Cells above the highest load that was measured in that speed's region; shape (rows, columns).

    The region of a speed is itself and its neighbours, one breakpoint to either side; where none of them was measured,
    the nearest speed that was. Of a table without an axis of load no cell is known to lie below: all cells that were not
    reached count.
    """
    along = load_axis(table)
    if along is None:
        return ~reached
    by_load = reached if along == 0 else reached.T
    loads, speeds = by_load.shape
    highest = np.where(by_load.any(axis=0), loads - 1 - np.argmax(by_load[::-1], axis=0), -1)
    measured = np.flatnonzero(highest >= 0)
    top = np.full(speeds, -1)
    for speed in range(speeds if measured.size else 0):
        beside = highest[max(speed - 1, 0) : speed + 2]
        nearest = measured[np.abs(measured - speed) == np.abs(measured - speed).min()]
        # The lowest of the tops around: what one speed has seen another has not.
        known = beside[beside >= 0]
        top[speed] = highest[speed] if highest[speed] >= 0 else (known if known.size else highest[nearest]).min()
    above = np.arange(loads)[:, None] > top[None, :]
    return above if along == 0 else above.T


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
