"""Bins: the evidence of samples gathered on a table's axes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from uchiwa.core.evidence import kernels
from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.tables.table import Axis, Table, frozen

Estimator = Literal["nearest", "weighted", "surface"]
Sharing = Literal["nearest", "weighted"]
LEAST_WEIGHT = kernels.LEAST_WEIGHT
_NO_AXIS = Axis("none", "1", frozen([0.0, 1.0]))


@dataclass(frozen=True, eq=False)
class CellShares:
    """Which cells each sample counts in, and by how much.

    Attributes:
        cell: flat index of each cell a sample may count in; shape (k, n), k = 1 for *nearest*, else 2 or 4.
        weight: share of the sample that counts there, 0 … 1, summing to 1 over k; shape (k, n).
        nearest: flat index of the nearest cell; shape (n,).
    """

    cell: IntArray
    weight: FloatArray
    nearest: IntArray


def shares(x: Axis, y: Axis | None, at_x: FloatArray, at_y: FloatArray | None, estimator: Estimator) -> CellShares:
    """Spread samples over the cells of a table.

    *nearest*: a sample belongs to the nearest breakpoint pair, borders at midpoints. *weighted* and *surface*: it
    counts in its two or four surrounding points with the weights with which the controller's own lookup would use
    them.
    """
    i, fx = x.place(at_x)
    nearest = x.nearest(at_x)
    if y is None or at_y is None:
        j, fy = np.zeros_like(i), np.zeros_like(fx)
        corners = [(0, 0), (1, 0)]
    else:
        j, fy = y.place(at_y)
        nearest = y.nearest(at_y) * x.size + nearest
        corners = [(0, 0), (1, 0), (0, 1), (1, 1)]
    if estimator == "nearest":
        return CellShares(nearest[None, :], np.ones((1, at_x.size)), nearest)
    weight = np.stack([np.where(right, fx, 1 - fx) * np.where(up, fy, 1 - fy) for right, up in corners])
    cell = np.stack([(j + up) * x.size + i + right for right, up in corners])
    return CellShares(cell, weight, nearest)


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


@dataclass(frozen=True, eq=False)
class Figures:
    """Mean, number and standard deviation per cell; arrays of the grid's shape."""

    mean: FloatArray
    samples: FloatArray
    spread: FloatArray


def figures(x: Axis, y: Axis | None, at_x: FloatArray, at_y: FloatArray | None, value: FloatArray) -> Figures:
    """The three figures asked for most, samples counting in the nearest cell.

    Args:
        x, y: axes; `y` is None for a curve.
        at_x, at_y, value: shape (n,), finite.
    """
    nx, ny, _, _, bx, by = _rulers(x, y, "nearest")
    if at_y is None:
        at_y = np.zeros_like(at_x)
    shift = float(value[0]) if value.size else 0.0
    parts = kernels.in_parts(
        value.size, lambda a, b: kernels.counted(*bx, *by, nx, nx * ny, at_x, at_y, value, shift, a, b)
    )
    total = np.sum(parts, axis=0)
    number = total[:, 0]
    with np.errstate(invalid="ignore", divide="ignore"):
        mean = total[:, 1] / number
        variance = np.maximum(total[:, 2] / number - mean**2, 0.0) * number / np.maximum(number - 1, 1)
    return Figures((mean + shift).reshape(ny, nx), number.reshape(ny, nx), np.sqrt(variance).reshape(ny, nx))


def _rulers(
    x: Axis, y: Axis | None, sharing: Sharing
) -> tuple[int, int, FloatArray, FloatArray, kernels.Ruler, kernels.Ruler]:
    """Columns, rows, breakpoints and rulers of two axes; a curve is given a second axis of which one row is used."""
    second = _NO_AXIS if y is None else y
    rows = 1 if y is None else second.size
    if sharing == "nearest":
        middle = [(one.breakpoints[1:] + one.breakpoints[:-1]) / 2 for one in (x, second)]
    else:
        middle = [one.breakpoints[1:-1] for one in (x, second)]
    return x.size, rows, x.breakpoints, second.breakpoints, kernels.ruler(middle[0]), kernels.ruler(middle[1])


def _in_order(values: FloatArray) -> FloatArray:
    return np.ascontiguousarray(values, dtype=np.float64)


@dataclass(frozen=True, eq=False)
class Samples:
    """Samples of some value on a table's axes, in time order log after log; arrays of shape (n,).

    Attributes:
        x, y: where each lies, in the axes' units, finite; `y` is None for a curve.
        value: finite.
        duration: seconds that each stands for.
        breaks: a number that changes wherever samples are not neighbours in time.
    """

    x: FloatArray
    y: FloatArray | None
    value: FloatArray
    duration: FloatArray
    breaks: IntArray


def bin_samples(
    x: Axis, y: Axis | None, samples: Samples, estimator: Estimator = "weighted", window: float = 1.0
) -> Bins:
    """Gather samples on the axes of a table.

    The standard error of a cell is spread / √n′, where n′ = n·(1 − ρ)/(1 + ρ) is the number of independent samples
    that n samples of a first-order autoregressive process are worth (e.g. Wilks, *Statistical Methods in the
    Atmospheric Sciences*, 5.2.4); ρ is pooled over all cells, and n′ is at least 1.

    Args:
        x, y: the table's axes; `y` is None for a curve.
        samples: with `y` if the table has a second axis.
        estimator: how samples are shared among cells; those of the *surface* count as with *weighted*.
        window: with *nearest*, the share of a cell around its breakpoint in which samples count, 0 … 1.
    """
    if estimator == "nearest" and window < 1.0:
        samples = _within(x, y, samples, window)
    sharing: Sharing = "nearest" if estimator == "nearest" else "weighted"
    nx, ny, px, py, rx, ry = _rulers(x, y, sharing)
    _, _, _, _, nearest_x, nearest_y = _rulers(x, y, "nearest")
    at_x, value, duration, breaks = (
        _in_order(samples.x), _in_order(samples.value), _in_order(samples.duration), samples.breaks,
    )  # fmt: skip
    second = np.zeros_like(at_x) if samples.y is None else _in_order(samples.y)
    cells, shape, shift = nx * ny, (ny, nx), float(value[0]) if value.size else 0.0

    def part(first: int, last: int) -> FloatArray:
        given = (at_x, second, value, duration, breaks, shift, first, last)
        if sharing == "nearest":
            return np.asarray(kernels.gathered_nearest(*rx, *ry, nx, cells, *given))
        return np.asarray(kernels.gathered_weighted(px, *rx, py, *ry, cells, *given))

    parts = kernels.in_parts(value.size, part)
    total = np.sum(parts, axis=0)
    weight = total[:, kernels.WEIGHT]
    deviation, effective, spread = _moments(total)
    mean = deviation + shift
    known = np.where(weight > 0, mean, shift)
    sums = np.sum(
        kernels.in_parts(
            value.size,
            lambda first, last: kernels.followers(
                *nearest_x, *nearest_y, nx, known, at_x, second, value, breaks, first, last
            ),
        ),
        axis=0,
    )
    rho = float(np.clip(sums[0] / np.sqrt(sums[1] * sums[2]), 0.0, 0.999)) if sums[1] * sums[2] > 0 else 0.0
    independent = np.maximum(effective * (1 - rho) / (1 + rho), 1.0)
    lowest = np.min([one[:, kernels.LOWEST] for one in parts], axis=0)
    highest = np.max([one[:, kernels.HIGHEST] for one in parts], axis=0)
    seen = weight > LEAST_WEIGHT
    for array in (mean, spread, lowest, highest):
        array[~seen] = np.nan
    return Bins(
        mean=mean.reshape(shape),
        samples=np.where(seen, weight, 0.0).reshape(shape),
        dwell=total[:, kernels.DWELL].reshape(shape),
        visits=total[:, kernels.VISITS].astype(np.int64).reshape(shape),
        spread=spread.reshape(shape),
        standard_error=np.where(effective < 2, np.nan, spread / np.sqrt(independent)).reshape(shape),
        lowest=lowest.reshape(shape),
        highest=highest.reshape(shape),
    )


def _within(x: Axis, y: Axis | None, samples: Samples, window: float) -> Samples:
    """The samples near a breakpoint of each axis; neighbours with others left out between them are none any more."""
    use = x.near(samples.x, window)
    if y is not None and samples.y is not None:
        use &= y.near(samples.y, window)
    breaks = samples.breaks + np.cumsum(~use) * 2**40
    kept_y = samples.y[use] if samples.y is not None else None
    return Samples(samples.x[use], kept_y, samples.value[use], samples.duration[use], breaks[use])


def _moments(total: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Deviation from the shift, number of equally weighted samples, and spread of each cell, of its sums."""
    weight, squares = total[:, kernels.WEIGHT], total[:, kernels.WEIGHT_SQUARED]
    with np.errstate(invalid="ignore", divide="ignore"):
        deviation = total[:, kernels.VALUE] / weight
        variance = np.maximum(total[:, kernels.VALUE_SQUARED] / weight - deviation**2, 0.0)
        effective = np.nan_to_num(weight**2 / squares)
        spread = np.sqrt(variance * effective / np.maximum(effective - 1, 1))
    return deviation, effective, spread


def weighted_bins(table: Table, at_x: FloatArray, at_y: FloatArray | None, value: FloatArray) -> Bins:
    """Plain weighted bins of samples of which neither time nor order matters; see `bin_samples`."""
    nothing = np.zeros(value.size)
    return bin_samples(table.x, table.y, Samples(at_x, at_y, value, nothing, np.zeros(value.size, dtype=np.int64)))


def refined(table: Table, bins: Bins, at_x: FloatArray, at_y: FloatArray | None, value: FloatArray) -> FloatArray:
    """Weighted means, and once more the weighted mean of what the lookup of the first leaves unexplained.

    A plain weighted mean draws each cell towards its neighbours; the second pass takes most of that back. It is a step
    of the simultaneous algebraic reconstruction technique (Andersen and Kak, *Ultrasonic Imaging* 6, 1984).

    Args:
        table: whose own values weigh the four points, for a factor multiplies them before they are looked up.
        bins: of the same samples, *weighted*.
        at_x, at_y, value: shape (n,), finite.

    Returns:
        Factors of the table's shape; NaN without samples.
    """
    share = shares(table.x, table.y, at_x, at_y, "weighted")
    model = np.where(table.grid > 0, table.grid, 1.0).ravel()[share.cell] * share.weight
    model /= model.sum(axis=0)
    first = np.where(np.isfinite(bins.mean), bins.mean, 1.0).ravel()
    left = value - (first[share.cell] * model).sum(axis=0)
    cells = bins.mean.size
    weight = np.bincount(share.cell.ravel(), weights=share.weight.ravel(), minlength=cells)
    more = np.bincount(share.cell.ravel(), weights=(share.weight * left).ravel(), minlength=cells)
    with np.errstate(invalid="ignore", divide="ignore"):
        again = bins.mean + (more / weight).reshape(bins.mean.shape)
    return np.where(np.isfinite(bins.mean), again, np.nan)
