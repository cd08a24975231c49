"""A load that nobody recorded, switched on and off while the engine idled: a fan, lights, an alternator that charges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.falling_fit import SampleWeights, bending_of, lookup_shares
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.tables.table import Axis

LEAST_SHARE = 0.05
"""Of the air: a load that takes less is left among the scatter."""
_BESIDE_S, _ANSWER_S, _APART_S = 5.0, 2.5, 8.0
_CLEAR, _LEAST_STEP = 4.0, 0.03
_FEW, _EACH = 5, 2
_ALIKE = 0.3
_SHARED = (0.1, 0.9)
_BENDING, _FREE = 0.03, 0.02
_HUBER, _TURNS = 1.5, 8


@dataclass(frozen=True, eq=False)
class SwitchedLoad:
    """Two levels of air at one temperature, and which of them held when.

    Attributes:
        air: that the load takes, in the unit of the samples.
        on: of which samples; shape (m,).
        share: of the time that was recorded with it on.
        switched: how often it was switched.
        error: standard deviation of the share's part of the air: another day's share is another.
    """

    air: float
    on: BoolArray
    share: float
    switched: int
    error: float

    @property
    def taken(self) -> FloatArray:
        """What it takes at each sample more than on average; shape (m,)."""
        return np.where(self.on, self.air, 0.0) - self.air * self.share


def switched_load(
    axis: Axis, coolant: FloatArray, air: FloatArray, curve: FloatArray, samples: SampleWeights, time: FloatArray
) -> SwitchedLoad | None:
    """The load that was switched on and off, if the samples show one.

    What an engine needs moves with its coolant over minutes. Where it steps within seconds, something was switched. The
    steps part each start into runs; one level for each run, and the curve over coolant, are solved together (a mixed model:
    levels held to a mean of zero by the time they last). If the levels fall into two that lie much further apart than either
    scatters, these two and the curve are solved once more.

    A load that belongs to a temperature, such as a fan that begins to turn when it is hot, is the curve's own: none is told
    unless both levels were seen in the colder half of the samples and in the warmer half.

    Args:
        axis: of the curve.
        coolant, air: samples, finite; shape (m,).
        curve: a first fit, at the axis's breakpoints; shape (n,).
        samples: weight, seconds, stretch and start of each.
        time: s in its start; shape (m,).
    """
    if air.size < 2 * _FEW:
        return None
    order = np.lexsort((time, samples.start))
    back = np.argsort(order)
    x, y, weight, seconds = coolant[order], air[order], samples.weight[order], samples.seconds[order]
    rest = y - np.interp(x, axis.breakpoints, curve)
    run = _runs(time[order], rest, samples.start[order], _LEAST_STEP * float(np.median(y)))
    lasting: FloatArray = np.bincount(run, weights=seconds).astype(np.float64)
    starts = np.unique(samples.start).size
    if lasting.size <= starts:
        return None
    design = lookup_shares(axis, x)
    levels = _solved(axis, design, run, y, weight, lasting)
    high = _two_levels(levels, lasting)
    if high is None or not _in_both_halves(x, high[run], seconds):
        return None
    air_taken = _solved(axis, design, np.where(high[run], 0, 1), y, weight, np.zeros(1)).item()
    if air_taken < LEAST_SHARE * float(np.median(y)):
        return None
    share = float(lasting[high].sum() / lasting.sum())
    error = air_taken * float(np.sqrt(share * (1.0 - share) / lasting.size))
    return SwitchedLoad(air_taken, high[run][back], share, int(lasting.size) - starts, error)


def _runs(time: FloatArray, rest: FloatArray, start: IntArray, least: float) -> IntArray:
    """Numbers of the runs between steps, every start's its own; shape (m,)."""
    run, number = np.zeros(time.size, dtype=np.int64), 0
    for one in np.unique(start).tolist():
        here = np.flatnonzero(start == one)
        cuts = steps(time[here], rest[here], least)
        run[here] = number + np.searchsorted(cuts, np.arange(here.size), side="right")
        number += cuts.size + 1
    return run


def steps(time: FloatArray, values: FloatArray, least: float) -> IntArray:
    """Places at which a signal steps to another level, rising: the mean of 5 s after, less that of 5 s before.

    After a step it is given 2.5 s to answer. A step counts if it is four times as high as such differences usually are, and
    at least `least`; of several within 8 s the highest.

    Args:
        time: s, rising; shape (m,).
        values: finite; shape (m,).
        least: in the unit of the values.
    """
    place = np.arange(time.size)
    sums = np.concatenate(([0.0], np.cumsum(values)))
    before = np.searchsorted(time, time - _BESIDE_S)
    first = np.searchsorted(time, time + _ANSWER_S)
    last = np.searchsorted(time, time + _ANSWER_S + _BESIDE_S)
    enough = (place - before >= _FEW) & (last - first >= _FEW)
    after_mean = (sums[last] - sums[first]) / np.maximum(last - first, 1)
    height = np.where(enough, np.abs(after_mean - (sums[place] - sums[before]) / np.maximum(place - before, 1)), 0.0)
    bar = max(_CLEAR * 1.4826 * float(np.median(height)) if height.size else 0.0, least, 1e-9)
    found: list[int] = []
    left = height.copy()
    while left.size and left.max() >= bar:
        found.append(int(left.argmax()))
        left[np.abs(time - time[found[-1]]) < _APART_S] = 0.0
    return np.array(sorted(found), dtype=np.int64)


def _solved(
    axis: Axis, design: FloatArray, level: IntArray, y: FloatArray, weight: FloatArray, lasting: FloatArray
) -> FloatArray:
    """The height of each level above a smooth curve; robust least squares, levels held towards 0 by `lasting`.

    Args:
        axis: of the curve, n breakpoints.
        design: the shares with which it is looked up; shape (m, n).
        level: number of each sample's level, `lasting.size` for none; shape (m,).
        y, weight: samples; shape (m,).
        lasting: s; shape (levels,).
    """
    n, count = axis.size, lasting.size
    bending = bending_of(axis)
    robust: FloatArray = np.ones(y.size)
    height: FloatArray = np.zeros(count)

    def by_level(values: FloatArray) -> FloatArray:
        return np.bincount(level, weights=values, minlength=count + 1)[:count].astype(np.float64)

    for _ in range(_TURNS):
        heavy = weight * robust
        gram = design.T @ (design * heavy[:, None])
        counted = np.diag(gram)
        gram += _BENDING * float(np.median(counted[counted > 0])) * (bending.T @ bending)
        cross = np.stack([by_level(heavy * design[:, one]) for one in range(n)])
        own = np.diag(by_level(heavy) + _FREE * lasting * heavy.sum() / max(float(lasting.sum()), 1e-9))
        whole = np.block([[gram, cross], [cross.T, own]]) + 1e-9 * np.eye(n + count)
        found = np.linalg.solve(whole, np.concatenate([design.T @ (heavy * y), by_level(heavy * y)]))
        height = np.asarray(found[n:], dtype=np.float64)
        rest = y - design @ found[:n] - np.append(height, 0.0)[level]
        spread = 1.4826 * float(np.median(np.abs(rest)))
        if spread <= 1e-12:
            break
        robust = np.asarray(np.minimum(1.0, _HUBER * spread / np.maximum(np.abs(rest), 1e-12)), dtype=np.float64)
    return height


def _two_levels(levels: FloatArray, lasting: FloatArray) -> BoolArray | None:
    """Which runs are on the higher of two levels; None if they are not two."""
    high: BoolArray = levels > float(np.average(levels, weights=lasting))
    for _ in range(levels.size):
        if high.sum() < _EACH or (~high).sum() < _EACH:
            return None
        above = float(np.average(levels[high], weights=lasting[high]))
        below = float(np.average(levels[~high], weights=lasting[~high]))
        again: BoolArray = levels > (above + below) / 2.0
        if np.array_equal(again, high):
            scatter = np.sqrt(np.average((levels - np.where(high, above, below)) ** 2, weights=lasting))
            return high if scatter < _ALIKE * (above - below) else None
        high = again
    return None


def _in_both_halves(x: FloatArray, on: BoolArray, seconds: FloatArray) -> bool:
    """Whether the load was seen both on and off in the colder half of the temperatures and in the warmer."""
    colder = x < (float(x.min()) + float(x.max())) / 2.0
    halves = [float(seconds[half & on].sum() / max(seconds[half].sum(), 1e-9)) for half in (colder, ~colder)]
    return all(_SHARED[0] <= half <= _SHARED[1] for half in halves)
