"""Bins: the evidence of samples gathered on a table's axes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from uchiwa.core.log import FloatArray, IntArray
from uchiwa.core.table import Axis

Estimator = Literal["nearest", "weighted"]
LEAST_WEIGHT = 1e-9


@dataclass(frozen=True, eq=False)
class Shares:
    """Which cells each sample counts in, and by how much.

    Attributes:
        cell: flat index of each cell a sample may count in; shape (k, n), k = 1 for *nearest*, else 2 or 4.
        weight: share of the sample that counts there, 0 … 1, summing to 1 over k; shape (k, n).
        nearest: flat index of the nearest cell; shape (n,).
    """

    cell: IntArray
    weight: FloatArray
    nearest: IntArray

    def entries(self, breaks: IntArray, cells: int) -> IntArray:
        """Separate entries into each cell; shape (cells,).

        A sample enters a cell if it counts there and the sample before it did not, or was not its neighbour in time.

        Args:
            breaks: a number that changes wherever samples are not neighbours in time; shape (n,).
            cells: number of cells.
        """
        counts = self.weight > LEAST_WEIGHT
        was_there = np.zeros(self.cell.shape, dtype=np.bool_)
        for corner, there in zip(self.cell, counts, strict=True):
            was_there[:, 1:] |= (self.cell[:, 1:] == corner[:-1]) & there[:-1]
        was_there[:, 1:] &= np.diff(breaks) == 0
        return np.bincount(self.cell[counts & ~was_there], minlength=cells).astype(np.int64)


def shares(x: Axis, y: Axis | None, at_x: FloatArray, at_y: FloatArray | None, estimator: Estimator) -> Shares:
    """Spread samples over the cells of a table.

    *nearest*: a sample belongs to the nearest breakpoint pair, borders at midpoints. *weighted*: it counts in its
    two or four surrounding points with the weights with which the controller's own lookup would use them.
    """
    i, fx = x.place(at_x)
    if y is None or at_y is None:
        j, fy = np.zeros_like(i), np.zeros_like(fx)
        corners = [(0, 0), (1, 0)]
    else:
        j, fy = y.place(at_y)
        corners = [(0, 0), (1, 0), (0, 1), (1, 1)]
    nearest = (j + (fy >= 0.5)) * x.size + i + (fx >= 0.5)
    if estimator == "nearest":
        return Shares(nearest[None, :], np.ones((1, at_x.size)), nearest)
    weight = np.stack([np.where(right, fx, 1 - fx) * np.where(up, fy, 1 - fy) for right, up in corners])
    cell = np.stack([(j + up) * x.size + i + right for right, up in corners])
    return Shares(cell, weight, nearest)


@dataclass(frozen=True, eq=False)
class Bins:
    """Evidence per cell; every array has the table's shape (rows, columns).

    Attributes:
        mean: mean value; NaN without samples.
        samples: number of samples; with *weighted*, the sum of their weights.
        dwell: seconds spent, likewise weighted.
        visits: separate entries into the cell.
        spread: standard deviation of the values.
        standard_error: of the mean, with samples that follow each other not counted as independent.
        lowest, highest: extremes of the values that count.
    """

    mean: FloatArray
    samples: FloatArray
    dwell: FloatArray
    visits: IntArray
    spread: FloatArray
    standard_error: FloatArray
    lowest: FloatArray
    highest: FloatArray


def _neighbour_correlation(residual: FloatArray, cell: IntArray, breaks: IntArray) -> float:
    """Correlation of residuals of samples that follow each other in one cell, pooled over all cells, 0 … 0.999."""
    if residual.size < 3:
        return 0.0
    follow = (np.diff(cell) == 0) & (np.diff(breaks) == 0)
    if not follow.any():
        return 0.0
    first, second = residual[:-1][follow], residual[1:][follow]
    scale = float(np.sqrt(np.sum(first**2) * np.sum(second**2)))
    return float(np.clip(np.sum(first * second) / scale, 0.0, 0.999)) if scale > 0 else 0.0


def bin_samples(
    x: Axis,
    y: Axis | None,
    at_x: FloatArray,
    at_y: FloatArray | None,
    value: FloatArray,
    duration: FloatArray,
    breaks: IntArray,
    estimator: Estimator = "weighted",
) -> Bins:
    """Gather samples on the axes of a table.

    The standard error of a cell is spread / √n′, where n′ = n·(1 − ρ)/(1 + ρ) is the number of independent samples
    that n samples of a first-order autoregressive process are worth (e.g. Wilks, *Statistical Methods in the
    Atmospheric Sciences*, 5.2.4); ρ is pooled over all cells, and n′ is at least 1.

    Args:
        x, y: the table's axes; `y` is None for a curve.
        at_x, at_y: where each sample lies, in the axes' units; shape (n,), finite, in time order log after log.
        value: the value of each sample; shape (n,), finite.
        duration: seconds each sample stands for; shape (n,).
        breaks: a number that changes wherever samples are not neighbours in time; shape (n,).
        estimator: how samples are shared among cells.
    """
    shape = (y.size if y is not None else 1, x.size)
    cells = shape[0] * shape[1]
    share = shares(x, y, at_x, at_y, estimator)
    flat = share.cell.ravel()

    def total(amount: FloatArray) -> FloatArray:
        return np.bincount(flat, weights=amount.ravel(), minlength=cells).astype(np.float64)

    weight = total(share.weight)
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = total(share.weight * value) / weight
        deviation = value - mean[share.cell]
        variance = total(share.weight * deviation**2) / weight
        effective = np.nan_to_num(weight**2 / total(share.weight**2))
        spread = np.sqrt(variance * effective / np.maximum(effective - 1, 1))
    residual = np.nan_to_num(value - mean[share.nearest])
    rho = _neighbour_correlation(residual, share.nearest, breaks)
    independent = np.maximum(effective * (1 - rho) / (1 + rho), 1.0)
    counts = share.weight > LEAST_WEIGHT
    lowest, highest = np.full(cells, np.inf), np.full(cells, -np.inf)
    every = np.broadcast_to(value, share.cell.shape)[counts]
    np.minimum.at(lowest, share.cell[counts], every)
    np.maximum.at(highest, share.cell[counts], every)
    seen = weight > LEAST_WEIGHT
    for array in (mean, spread, lowest, highest):
        array[~seen] = np.nan
    return Bins(
        mean=mean.reshape(shape),
        samples=np.where(seen, weight, 0.0).reshape(shape),
        dwell=total(share.weight * duration).reshape(shape),
        visits=share.entries(breaks, cells).reshape(shape),
        spread=spread.reshape(shape),
        standard_error=np.where(effective < 2, np.nan, spread / np.sqrt(independent)).reshape(shape),
        lowest=lowest.reshape(shape),
        highest=highest.reshape(shape),
    )
