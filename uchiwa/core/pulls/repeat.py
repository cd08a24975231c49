"""Repeatability: what runs that were meant to be alike differ by, so that a gain can be told from chance."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.student import half_width
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.pulls.runs import Bands

ALIKE_SPARK = 0.3
ALIKE_PRESSURE = 4.0
ALIKE_MIXTURE = 0.03
ASSUMED = 0.007
"""Scatter from run to run, as a share, where no run was repeated: what a good dyno keeps within."""
_ASSUMED_FREEDOM = 4.0


@dataclass(frozen=True)
class Repeatability:
    """How well runs repeat.

    Attributes:
        share: standard deviation of a run's band mean, as a share of torque.
        freedom: degrees of freedom it rests on.
        groups: runs that were alike, by their numbers in the list of pulls.
        assumed: whether nothing was repeated and the share is only what is usual.
    """

    share: float
    freedom: float
    groups: tuple[tuple[int, ...], ...]
    assumed: bool

    def interval(self, first: int = 1, second: int = 1, sure: float = 0.95) -> float:
        """Share of torque by which means of `first` and of `second` runs differ by chance alone."""
        return half_width(self.freedom, sure) * self.share * math.sqrt(1.0 / first + 1.0 / second)


def alike(bands: Bands, one: int, other: int) -> bool:
    """Whether two runs were measured alike, with the same spark, pressure and mixture in most of their common bands."""
    if bands.measured[one] != bands.measured[other]:
        return False
    common = np.isfinite(bands.torque[one]) & np.isfinite(bands.torque[other])
    if int(common.sum()) < 2:
        return False
    for values, most in (
        (bands.spark, ALIKE_SPARK), (bands.pressure, ALIKE_PRESSURE), (bands.mixture, ALIKE_MIXTURE),
    ):  # fmt: skip
        apart = np.abs(values[one] - values[other])[common]
        apart = apart[np.isfinite(apart)]
        if apart.size and float(np.median(apart)) > most:
            return False
    return bool(np.isfinite(bands.spark[[one, other]][:, common]).any())


def groups_of(bands: Bands) -> tuple[tuple[int, ...], ...]:
    """Runs that are alike, each in one group; groups of one are left out."""
    left = list(range(bands.torque.shape[0]))
    found: list[tuple[int, ...]] = []
    while left:
        first = left.pop(0)
        group = [first, *(one for one in left if alike(bands, first, one))]
        left = [one for one in left if one not in group]
        if len(group) > 1:
            found.append(tuple(group))
    return tuple(found)


def repeatability(bands: Bands, chosen: tuple[tuple[int, ...], ...] | None = None) -> Repeatability:
    """The scatter of runs that were alike, pooled over groups and bands.

    In each band of each group the deviations from the group's mean, as shares of it; their squares pooled. Bands of one
    run go up and down together, so that the degrees of freedom are those of the runs, not of the bands.
    """
    groups = groups_of(bands) if chosen is None else chosen
    squares, weights, freedom = 0.0, 0.0, 0.0
    for group in groups:
        level = bands.level[list(group)]
        common: BoolArray = np.isfinite(level).sum(axis=0) > 1
        if not common.any():
            continue
        mean: FloatArray = np.nanmean(level[:, common], axis=0)
        apart = (level[:, common] - mean) / mean
        count = np.isfinite(apart).sum(axis=0)
        squares += float((np.nansum(apart**2, axis=0) / (count - 1)).mean()) * (len(group) - 1)
        weights += len(group) - 1
        freedom += len(group) - 1
    if weights <= 0:
        return Repeatability(ASSUMED, _ASSUMED_FREEDOM, (), assumed=True)
    return Repeatability(math.sqrt(squares / weights), freedom, groups, assumed=False)
