"""The error factor of each cell, by one of three estimators."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.bins import Bins, Samples, bin_samples, figures, refined, weighted_bins
from uchiwa.core.evidence.meter_shape import straight_over_bent
from uchiwa.core.evidence.surface import Conditions, Surface, fit_surface
from uchiwa.core.evidence.transients import UNKNOWN_FILM
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.samples import Evidence
from uchiwa.core.tables.table import Table

LEAST_ERROR = 0.001
"""What sensors, rounding and lookups leave however long one drives: no error is told closer, as a fraction."""


@dataclass(frozen=True, eq=False)
class Estimate:
    """Error factors per cell; arrays of shape (rows, columns).

    Attributes:
        factor: NaN where there is nothing to tell it from.
        standard_error: of it, as a fraction.
        surface: the fit it is from, or by whose shape its error is judged.
        means: plain means of a cell's own samples, by the ways of sharing them that the bins do not use; NaN without any.
    """

    factor: FloatArray
    standard_error: FloatArray
    surface: Surface | None = None
    means: tuple[FloatArray, ...] = ()


def bin_evidence(evidence: Evidence, table: Table, policy: Policy) -> Bins:
    """The used samples of some evidence, gathered on a table's axes."""
    return bin_samples(table.x, table.y, _used(evidence), policy.estimator, policy.window_percent / 100.0)


def _used(evidence: Evidence) -> Samples:
    used = evidence.sieve.used
    y = evidence.y[used] if evidence.y is not None else None
    return Samples(evidence.x[used], y, evidence.error[used], evidence.duration[used], evidence.breaks[used])


def estimate(evidence: Evidence, bins: Bins, table: Table, policy: Policy) -> Estimate:
    """Error factors from the used samples.

    *nearest*: the mean of the samples nearest to a breakpoint. *weighted*: the mean with the lookup's weights, and
    once more what that leaves unexplained. *surface*: see `surface.fit_surface`. What the first two stray from the
    breakpoint's own value, for their samples lie about it, belongs to their errors: it is what the same means make of the
    surface, read off where the samples lie. So does what they find beyond both errors and the surface does not.
    """
    samples = _used(evidence)
    x, y, error = samples.x, samples.y, samples.value
    surface = fit_surface(table, samples, _conditions(evidence))
    unresolved, moving = _unresolved(evidence.grain, bins.spread), _moving(evidence, table)
    floor = np.sqrt(LEAST_ERROR**2 + _following(evidence, table) ** 2 + unresolved**2 + moving**2)
    seen = bins.samples > 0
    nearest = figures(table.x, table.y, x, y, error).mean
    if policy.estimator == "surface":
        factor = np.where(seen, surface.factor, np.nan)
        return Estimate(
            factor, np.where(seen, np.hypot(surface.standard_error, floor), np.nan), surface, (nearest,)
        )  # fmt: skip
    expected = table.with_grid(table.grid * surface.factor).lookup(x, y) / table.lookup(x, y)
    if table.role == "maf_curve":
        expected = expected / straight_over_bent(table, x)
    if policy.estimator == "weighted":
        factor = refined(table, bins, x, y, error)
        smooth = refined(table, weighted_bins(table, x, y, expected), x, y, expected)
        means: tuple[FloatArray, ...] = (nearest,)
    else:
        factor, smooth = bins.mean, figures(table.x, table.y, x, y, expected).mean
        means = (weighted_bins(table, x, y, error).mean,)
    stray = np.nan_to_num(smooth - surface.factor)
    own = np.maximum(bins.standard_error, surface.standard_error)
    contradicted = np.nan_to_num(np.maximum((factor - smooth) ** 2 - own**2, 0.0))
    errors = np.sqrt(own**2 + stray**2 + contradicted + floor**2)
    return Estimate(factor, np.where(seen, errors, np.nan), surface, means)


def _conditions(evidence: Evidence) -> Conditions:
    """Log, region and rate of the used samples."""
    used = evidence.sieve.used
    rate = np.zeros(len(evidence.names))
    for number in range(rate.size):
        steps = np.diff(evidence.time[evidence.log == number][:100_000])
        usual = float(np.median(steps)) if steps.size else 0.0
        rate[number] = 1.0 / usual if usual > 0 else 0.0
    return Conditions(evidence.log[used], evidence.region[used], rate)


def _moving(evidence: Evidence, table: Table) -> FloatArray:
    """Error of cells that were only ever driven through one way, as in a pull: what a film does there never averages out.

    Its strength is known to no better than `UNKNOWN_FILM`, found or not. Shape (rows, columns).
    """
    used = evidence.sieve.used
    if evidence.ahead is None or not used.any():
        return np.zeros(table.shape)
    x, y = evidence.x[used], evidence.y[used] if evidence.y is not None else None
    mean = figures(table.x, table.y, x, y, evidence.ahead[used]).mean
    return UNKNOWN_FILM * np.abs(np.nan_to_num(mean))


def _following(evidence: Evidence, table: Table) -> FloatArray:
    """Error of cells whose trims had not arrived: what they were behind there.

    Shape (rows, columns).
    """
    used = evidence.sieve.used
    if evidence.unsure is None or not used.any():
        return np.zeros(table.shape)
    x, y = evidence.x[used], evidence.y[used] if evidence.y is not None else None
    squared = np.square(evidence.unsure[used])
    there = figures(table.x, table.y, x, y, squared).mean
    mean: FloatArray = np.sqrt(np.where(np.isnan(there), squared.min(), there))
    return mean


def _unresolved(grain: float, spread: FloatArray) -> FloatArray:
    """Error of readings that come in steps, which no number of equal readings averages away; shape of `spread`.

    A steady reading may lie anywhere within its step q: q/√12. What scatters over several steps resolves between them: by
    exp(−2π²σ²/q²) for Gaussian scatter σ (Widrow and Kollár, *Quantization Noise*, 2008).
    """
    if grain <= 0:
        return np.zeros(spread.shape)
    own = np.maximum(np.nan_to_num(spread) ** 2 - grain**2 / 12.0, 0.0)
    left: FloatArray = grain / np.sqrt(12.0) * np.exp(-2.0 * np.pi**2 * own / grain**2)
    return left


def enough_evidence(bins: Bins, policy: Policy) -> BoolArray:
    """Where a cell has the samples and the dwell that the policy asks for."""
    enough: BoolArray = (bins.samples >= policy.minimum_samples) & (bins.dwell >= policy.minimum_dwell_s)
    return enough & np.isfinite(bins.mean)
