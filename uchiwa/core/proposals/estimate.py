"""The error factor of each cell, by one of three estimators."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.bins import Bins, bin_samples, refined
from uchiwa.core.log import BoolArray, FloatArray
from uchiwa.core.proposals.evidence import Evidence
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.surface import Surface, fit_surface
from uchiwa.core.table import Table


@dataclass(frozen=True, eq=False)
class Estimate:
    """Error factors per cell; arrays of shape (rows, columns).

    Attributes:
        factor: NaN where there is nothing to tell it from.
        standard_error: of it, as a fraction.
        surface: the fit it is from, with *surface*.
    """

    factor: FloatArray
    standard_error: FloatArray
    surface: Surface | None = None


def bin_evidence(evidence: Evidence, table: Table, policy: Policy) -> Bins:
    """The used samples of some evidence, gathered on a table's axes."""
    used = evidence.sieve.used
    return bin_samples(
        table.x,
        table.y,
        evidence.x[used],
        evidence.y[used] if evidence.y is not None else None,
        evidence.error[used],
        evidence.duration[used],
        evidence.breaks[used],
        policy.estimator,
        policy.window_percent / 100.0,
    )


def estimate(evidence: Evidence, bins: Bins, table: Table, policy: Policy) -> Estimate:
    """Error factors from the used samples.

    *nearest*: the mean of the samples nearest to a breakpoint. *weighted*: the mean with the lookup's weights, and
    once more what that leaves unexplained. *surface*: see `surface.fit_surface`.
    """
    used = evidence.sieve.used
    x, y = evidence.x[used], evidence.y[used] if evidence.y is not None else None
    plain = np.hypot(bins.standard_error, evidence.floor)
    if policy.estimator == "surface":
        surface = fit_surface(table, x, y, evidence.error[used], evidence.breaks[used])
        seen = bins.samples > 0
        factor = np.where(seen, surface.factor, np.nan)
        return Estimate(factor, np.where(seen, np.hypot(surface.standard_error, evidence.floor), np.nan), surface)
    if policy.estimator == "weighted":
        return Estimate(refined(table, bins, x, y, evidence.error[used]), plain)
    return Estimate(bins.mean, plain)


def enough_evidence(bins: Bins, policy: Policy) -> BoolArray:
    """Where a cell has the samples and the dwell that the policy asks for."""
    enough: BoolArray = (bins.samples >= policy.minimum_samples) & (bins.dwell >= policy.minimum_dwell_s)
    return enough & np.isfinite(bins.mean)
