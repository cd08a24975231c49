"""What a degree of spark is worth, and where best torque lies, from runs with different spark."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

import numpy as np

from uchiwa.core.evidence.student import half_width
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.pulls.repeat import Repeatability
from uchiwa.core.pulls.runs import Bands

USUAL_LOSS = 0.0006
USUAL_LOSS_SPREAD = 0.0003
"""Share of torque lost per degree² away from MBT, and how much that differs between engines (a spark sweep of most
engines loses 1 to 2 % at 5° and 4 to 8 % at 10°; J. B. Heywood, *ICE Fundamentals*, section 9.2)."""
_BAND_SPREAD = 0.2
_DISTINCT = 0.5
_LEAST_SPAN = 3.0
_KNOCKED = 0.3
LEAST_SCATTER = 0.0005
"""No dyno repeats better, whatever two runs happen to say."""
MIXTURE_APART = 0.03
AIR_EXPONENT_SPREAD = 0.2
PRESSURE_EXPONENT_SPREAD = 0.1


class Method(StrEnum):
    """How best torque was told."""

    FIT = "fit"
    PAIR = "pair"
    NONE = "none"


@dataclass(frozen=True)
class SparkGain:
    """What spark does in one band.

    Attributes:
        centre: of the band, rpm.
        runs: numbers of the runs that count.
        sparks: how many different sparks they had, told apart by half a degree.
        lowest, highest: of them, degrees.
        at: spark for which the gain is told, degrees.
        gain: Nm per degree there; NaN if it cannot be told.
        low, high: 95 % interval of the gain.
        level: torque there, Nm at the band's reference.
        best: spark of best torque, degrees; NaN unless fitted.
        best_error: its standard error.
        method: *fit* from three sparks or more, *pair* from two, *none*.
    """

    centre: float
    runs: tuple[int, ...]
    sparks: int
    lowest: float
    highest: float
    at: float
    gain: float
    low: float
    high: float
    level: float
    best: float
    best_error: float
    method: Method

    @property
    def percent(self) -> float:
        """The gain as % of the torque per degree."""
        return self.gain / self.level * 100.0 if self.level else float("nan")


@dataclass(frozen=True, eq=False)
class Gains:
    """Gains by band.

    Attributes:
        bands: one for each.
        loss: share lost per degree², over all bands.
        scatter: standard deviation from run to run that the intervals rest on, as a share.
        freedom: its degrees of freedom.
        left_out: runs whose mixture was too unlike the others', by number.
    """

    bands: tuple[SparkGain, ...]
    loss: float
    scatter: float
    freedom: float
    left_out: tuple[int, ...]


def gains(bands: Bands, repeats: Repeatability, at: FloatArray | None = None) -> Gains:
    """Gain per degree and best spark by band.

    In each band the level L of the runs, as a share of their mean, is a parabola of spark: y = a + b·d + c·d². How
    strongly torque bends with spark is alike in most engines and within one engine, so that c is drawn to what all
    bands say together, and that to the usual loss; two sparks then give a slope, and three or more a best spark −b/2c
    (conditional on a normal prior of c, as in A. Gelman et al., *Bayesian Data Analysis*, chapter 14).
    How intake temperature and pressure act is itself known to ± 0.2 and ± 0.1 of their exponents only: runs that grew
    warmer, or gained boost, one by one as spark was added say less than runs in mixed order, and the intervals tell so.
    Runs that knocked in a band do not count there, nor runs whose mixture differs by more than 0.03 λ.

    Args:
        bands: of the runs.
        repeats: how well runs repeat.
        at: degrees by band at which the gain is told, by default the highest spark that was run; shape (bands,).
    """
    odd = _odd_mixture(bands)
    use = np.isfinite(bands.level) & np.isfinite(bands.spark) & ~(np.nan_to_num(bands.retard) > _KNOCKED)
    use[list(odd)] = False
    scatter, freedom = _scatter(bands, use, repeats)
    loss, loss_error = _common_loss(bands, use, scatter)
    spread = float(np.hypot(loss_error, _BAND_SPREAD * loss))
    common = _Common(scatter, freedom, loss, spread)
    told = tuple(
        _in_band(bands, band, use[:, band], common, None if at is None else float(at[band]))
        for band in range(bands.centres.size)
    )
    return Gains(told, loss, scatter, freedom, tuple(sorted(odd)))


def _odd_mixture(bands: Bands) -> set[int]:
    """Runs whose mixture is not that of the others."""
    if not np.isfinite(bands.mixture).any():
        return set()
    known = np.isfinite(bands.mixture).any(axis=1)
    columns = np.isfinite(bands.mixture).any(axis=0)
    usual = np.nanmedian(bands.mixture[:, columns], axis=0)
    apart = np.full(known.size, 0.0)
    apart[known] = np.abs(np.nanmedian((bands.mixture[:, columns] - usual)[known], axis=1))
    return {int(one) for one in np.flatnonzero(apart > MIXTURE_APART)}


def distinct(sparks: FloatArray) -> int:
    """How many different sparks there are: those closer than half a degree to the one below are the same."""
    ordered = np.sort(sparks[np.isfinite(sparks)])
    if ordered.size == 0:
        return 0
    count, last = 1, ordered[0]
    for one in ordered[1:]:
        if one - last >= _DISTINCT:
            count, last = count + 1, one
    return count


def _design(d: FloatArray) -> FloatArray:
    return np.vander(d, 3, increasing=True)


def _scatter(bands: Bands, use: BoolArray, repeats: Repeatability) -> tuple[float, float]:
    """Scatter from repeated runs together with what parabolas leave over; as a share, with its degrees of freedom."""
    squares, freedom = repeats.share**2 * repeats.freedom, repeats.freedom
    left: list[float] = []
    degrees: list[float] = []
    for band in range(bands.centres.size):
        here = use[:, band]
        sparks = bands.spark[here, band]
        free = int(here.sum()) - 3
        if free < 1 or distinct(sparks) < 3 or np.ptp(sparks) < _LEAST_SPAN:
            continue
        y = bands.level[here, band] / bands.level[here, band].mean()
        design = _design(sparks - sparks.mean())
        answer, *_ = np.linalg.lstsq(design, y, rcond=None)
        left.append(float(((y - design @ answer) ** 2).sum() / free))
        degrees.append(float(free))
    if left:
        own = float(np.mean(degrees))
        squares, freedom = squares + float(np.mean(left)) * own, freedom + own
    return max(float(np.sqrt(squares / freedom)), LEAST_SCATTER), freedom


def _common_loss(bands: Bands, use: BoolArray, scatter: float) -> tuple[float, float]:
    """Share lost per degree² over all bands, and its standard error.

    A run's own scatter goes through all of its bands, so that the bands count as one set of runs, not as many.
    """
    told: list[float] = []
    weights: list[float] = []
    for band in range(bands.centres.size):
        here = use[:, band]
        sparks = bands.spark[here, band]
        if distinct(sparks) < 3 or np.ptp(sparks) < _LEAST_SPAN:
            continue
        y = bands.level[here, band] / bands.level[here, band].mean()
        design = _design(sparks - sparks.mean())
        precision = design.T @ design / scatter**2
        covariance = np.linalg.pinv(precision)
        told.append(float((covariance @ design.T @ y / scatter**2)[2]))
        weights.append(1.0 / float(covariance[2, 2]))
    if not told:
        return USUAL_LOSS, USUAL_LOSS_SPREAD
    mine = -float(np.average(told, weights=weights))
    weight, usual = float(np.mean(weights)), USUAL_LOSS_SPREAD**-2
    loss = (mine * weight + USUAL_LOSS * usual) / (weight + usual)
    return max(loss, 0.2 * USUAL_LOSS), (weight + usual) ** -0.5


class _Common(NamedTuple):
    """What all bands tell together: scatter of a run and how surely it is known, the usual loss and how it differs."""

    scatter: float
    freedom: float
    loss: float
    spread: float


def _in_band(bands: Bands, band: int, use: BoolArray, common: _Common, at: float | None) -> SparkGain:
    scatter, freedom, loss, spread = common
    runs = tuple(int(one) for one in np.flatnonzero(use))
    sparks = bands.spark[use, band]
    count = distinct(sparks)
    nan = float("nan")
    low, high = (float(sparks.min()), float(sparks.max())) if sparks.size else (nan, nan)
    where = high if at is None or not np.isfinite(at) else at
    mean = float(bands.level[use, band].mean()) if sparks.size else nan
    if count < 2:
        return SparkGain(
            float(bands.centres[band]), runs, count, low, high, where, nan, nan, nan, mean, nan, nan, Method.NONE
        )
    y = bands.level[use, band] / mean
    aside = np.column_stack([bands.warmth[use, band], bands.denseness[use, band]])
    design = np.column_stack([_design(sparks - where), aside - aside.mean(axis=0)])
    precision = design.T @ design / scatter**2
    precision[2, 2] += spread**-2
    precision[3, 3] += AIR_EXPONENT_SPREAD**-2
    precision[4, 4] += PRESSURE_EXPONENT_SPREAD**-2
    wanted = design.T @ y / scatter**2
    wanted[2] += -loss * spread**-2
    covariance = np.linalg.inv(precision)
    a, b, c, *_ = (float(one) for one in covariance @ wanted)
    error = float(np.sqrt(covariance[1, 1])) * half_width(freedom)
    method = Method.FIT if count >= 3 and np.ptp(sparks) >= _LEAST_SPAN else Method.PAIR
    best, best_error = nan, nan
    if method is Method.FIT and c < 0:
        slope = np.array([0.0, -1.0 / (2 * c), b / (2 * c * c), 0.0, 0.0])
        best, best_error = where - b / (2 * c), float(np.sqrt(slope @ covariance @ slope))
    return SparkGain(
        float(bands.centres[band]), runs, count, low, high, where, b * mean, (b - error) * mean, (b + error) * mean,
        a * mean, best, best_error, method,
    )  # fmt: skip
