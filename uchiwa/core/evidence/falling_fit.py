"""A smooth curve that never rises, through scattered samples: what a controller should look up over coolant."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.optimize import lsq_linear

from uchiwa.core.evidence.student import half_width
from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.tables.table import Axis

STIFFNESSES = (0.01, 0.03, 0.1, 0.3, 1.0, 3.0)
"""How much bending may cost, against the samples of one breakpoint; that is taken which predicts stretches kept aside best."""
_FOLDS = 5
_HUBER = 1.5
_TURNS = 6


@dataclass(frozen=True, eq=False)
class FallingFit:
    """A fitted curve at an axis's breakpoints; arrays of shape (n,).

    Attributes:
        value: fitted, never rising along the axis; where no sample tells, what the curve's straight run gives.
        standard_error: of each value, samples of one stretch counted as one; inf without any sample near.
        half_width: of the 95 % interval, by as many stretches as there are; inf likewise.
        weight: samples that count for each breakpoint, shared between neighbours as a lookup shares them.
        dwell: seconds, likewise.
        stretches: number of separate stretches of time near each breakpoint.
        mean: mean distance of the samples nearest to each breakpoint from the curve in the car; NaN without any.
    """

    value: FloatArray
    standard_error: FloatArray
    half_width: FloatArray
    weight: FloatArray
    dwell: FloatArray
    stretches: IntArray
    mean: FloatArray


def fit_falling(
    axis: Axis,
    x: FloatArray,
    y: FloatArray,
    samples: SampleWeights,
    present: FloatArray,
    apart: FloatArray,
) -> FallingFit:
    """Least squares of the curve's own lookup to samples, smooth, robust and never rising.

    Minimises Σ wₛ·ρ(yₛ − Σᵢ hᵢ(xₛ)·vᵢ) + λ·Σ (second differences of v − present)² over curves v that never rise, where hᵢ are
    the shares with which the controller looks a value up, ρ is Huber's loss at 1.5 robust standard deviations, and what is
    kept smooth is the change from the present curve. vᵢ is written as vₙ plus falls ≥ 0, which makes it a bounded linear
    problem (Stark & Parker, *Bounded-variable least squares*, 1995; scipy's `lsq_linear`).

    Standard errors are the sandwich Σ of the unconstrained problem by stretches (Liang & Zeger, Biometrika 1986), at least
    what one stretch's own scatter makes of as many.

    Args:
        axis: of the curve, n breakpoints.
        x, y: samples, finite, in the axis's and the curve's units; shape (m,).
        samples: weight, seconds and stretch of each.
        present: the curve in the car; shape (n,).
        apart: standard deviation by which one start differs from another as a whole, which a start cannot tell; shape (n,).
    """
    n = axis.size
    order = np.lexsort((samples.stretch, y, x))
    x, y = x[order], y[order]
    weight, stretch = samples.weight[order], samples.stretch[order]
    design = lookup_shares(axis, x)
    counted = design.T @ weight
    dwell = design.T @ samples.seconds[order]
    near = axis.nearest(x)
    away = y - design @ present
    mean = _mean(near, away, weight, n)
    stretches = np.array([np.unique(stretch[near == i]).size for i in range(n)], dtype=np.int64)
    if x.size == 0:
        nothing = np.full(n, np.inf)
        return FallingFit(present.copy(), nothing, nothing.copy(), counted, dwell, stretches, mean)
    bending = bending_of(axis) * np.sqrt(max(float(np.median(counted[counted > 0])), 1.0))
    penalty = bending * np.sqrt(_stiffness(design, y - design @ present, weight, bending, stretch))
    smooth = penalty @ present
    robust = np.ones(x.size)
    value = present
    for _ in range(_TURNS):
        value = _solved(design, y, weight * robust, penalty, smooth)
        rest = y - design @ value
        spread = 1.4826 * float(np.median(np.abs(rest)))
        if spread <= 1e-12:
            break
        robust = np.minimum(1.0, _HUBER * spread / np.maximum(np.abs(rest), 1e-12))
    error = _errors(design, y - design @ value, weight * robust, penalty, stretch)
    starts = np.array([np.unique(samples.start[order][near == i]).size for i in range(n)], dtype=np.int64)
    error = np.sqrt(error**2 + apart**2 / np.maximum(starts, 1))
    error = np.where(counted > 0, error, np.inf)
    # The scatter of stretches is told by all of them together, less the values that they set.
    free = int(np.unique(stretch).size) - int((counted > 0).sum())
    wide = half_width(max(free, 2))
    return FallingFit(value, error, error * wide, counted, dwell, stretches, mean)


@dataclass(frozen=True, eq=False)
class SampleWeights:
    """What each sample counts for; arrays of shape (m,).

    Attributes:
        weight: 0 … 1, how far it is to be believed.
        seconds: that it stands for.
        stretch: number of the stretch of time that it belongs to; samples of one stretch are not independent.
        start: number of the log, and so of the day and its weather.
    """

    weight: FloatArray
    seconds: FloatArray
    stretch: IntArray
    start: IntArray


def _mean(near: IntArray, away: FloatArray, weight: FloatArray, n: int) -> FloatArray:
    total = np.bincount(near, weights=weight, minlength=n)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.bincount(near, weights=weight * away, minlength=n) / np.where(total > 0, total, np.nan)


def lookup_shares(axis: Axis, x: FloatArray) -> FloatArray:
    """The shares with which a controller looks a value up between two breakpoints; shape (m, n) for m places."""
    below, share = axis.place(x)
    rows = np.arange(x.size)
    found = np.zeros((x.size, axis.size))
    found[rows, below] = 1.0 - share
    found[rows, below + 1] = share
    return found


def bending_of(axis: Axis) -> FloatArray:
    """Second differences over uneven breakpoints, scaled so that even ones give 1, −2, 1; shape (n − 2, n)."""
    n = axis.size
    steps = np.diff(axis.breakpoints)
    found = np.zeros((max(n - 2, 0), n))
    for row in range(n - 2):
        left, right = steps[row], steps[row + 1]
        both = (left + right) / 2.0
        found[row, row : row + 3] = np.array([both / left, -both / left - both / right, both / right])
    return found


def _stiffness(
    design: FloatArray, away: FloatArray, weight: FloatArray, bending: FloatArray, stretch: IntArray
) -> float:
    """The stiffness under which the change from the present curve predicts stretches that were kept aside best."""
    names, number = np.unique(stretch, return_inverse=True)
    if names.size < 2 * _FOLDS:
        return STIFFNESSES[3]
    fold = number % _FOLDS
    grams, rights, energies = [], [], []
    for one in range(_FOLDS):
        inside = fold == one
        here = design[inside] * weight[inside, None]
        grams.append(design[inside].T @ here)
        rights.append(here.T @ away[inside])
        energies.append(float((weight[inside] * away[inside] ** 2).sum()))
    whole, right = np.sum(grams, axis=0), np.sum(rights, axis=0)
    small = 1e-9 * np.eye(design.shape[1])
    missed = []
    for stiffness in STIFFNESSES:
        smooth = stiffness * (bending.T @ bending) + small
        total = 0.0
        for gram, of_fold, energy in zip(grams, rights, energies, strict=True):
            change = np.linalg.solve(whole - gram + smooth, right - of_fold)
            total += energy - 2.0 * float(change @ of_fold) + float(change @ gram @ change)
        missed.append(total)
    return STIFFNESSES[int(np.argmin(missed))]


def _solved(
    design: FloatArray, y: FloatArray, weight: FloatArray, penalty: FloatArray, smooth: FloatArray
) -> FloatArray:
    """The curve of least squares that never rises."""
    n = design.shape[1]
    # Each value is the last plus the falls between: v = T·u with u ≥ 0 but for the last.
    shape = np.triu(np.ones((n, n)))
    gram = design.T @ (design * weight[:, None]) + penalty.T @ penalty + 1e-9 * np.eye(n)
    right = design.T @ (weight * y) + penalty.T @ smooth
    root = np.linalg.cholesky(gram).T
    wanted = np.linalg.solve(root.T, right)
    low = np.zeros(n)
    low[-1] = -np.inf
    found = lsq_linear(root @ shape, wanted, bounds=(low, np.full(n, np.inf)), method="bvls")
    return np.asarray(shape @ found.x, dtype=np.float64)


def _errors(
    design: FloatArray, rest: FloatArray, weight: FloatArray, penalty: FloatArray, stretch: IntArray
) -> FloatArray:
    """Standard errors of the unconstrained curve, by stretches of time."""
    n = design.shape[1]
    gram = design.T @ (design * weight[:, None]) + penalty.T @ penalty + 1e-9 * np.eye(n)
    inverse = np.linalg.inv(gram)
    names, number = np.unique(stretch, return_inverse=True)
    score = np.zeros((names.size, n))
    np.add.at(score, number, design * (weight * rest)[:, None])
    freed = names.size / max(names.size - 1, 1)
    by_stretch = np.sqrt(np.maximum(np.diag(inverse @ (score.T @ score) @ inverse) * freed, 0.0))
    # Few stretches that happen to agree do not make a curve certain: at least what their means scatter by says.
    sums = np.bincount(number, weights=weight)
    level = np.bincount(number, weights=weight * rest) / np.maximum(sums, 1e-12)
    scatter = float(np.sqrt(np.mean(level**2))) if names.size > 1 else float(np.std(rest))
    each = float(np.median(sums))
    floor = scatter * np.sqrt(np.maximum(np.diag(inverse), 0.0) * each)
    return np.asarray(np.maximum(by_stretch, floor))
