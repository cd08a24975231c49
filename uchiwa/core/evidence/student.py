"""Quantiles of Student's t distribution, for intervals from few runs."""

from __future__ import annotations

import math
from statistics import NormalDist


def t_quantile(probability: float, freedom: float) -> float:
    """The value that Student's t stays below with a probability.

    Exact for one and two degrees of freedom, otherwise the expansion of Cornish and Fisher (Abramowitz & Stegun
    26.7.5), good to 1 % from three degrees on for probabilities up to 0.98.

    Args:
        probability: 0 < p < 1.
        freedom: degrees of freedom, ≥ 1.
    """
    if freedom < 1.5:
        return math.tan(math.pi * (probability - 0.5))
    if freedom < 2.5:
        a = 4.0 * probability * (1.0 - probability)
        return 2.0 * (probability - 0.5) * math.sqrt(2.0 / a)
    z = NormalDist().inv_cdf(probability)
    g1 = (z**3 + z) / 4.0
    g2 = (5 * z**5 + 16 * z**3 + 3 * z) / 96.0
    g3 = (3 * z**7 + 19 * z**5 + 17 * z**3 - 15 * z) / 384.0
    g4 = (79 * z**9 + 776 * z**7 + 1482 * z**5 - 1920 * z**3 - 945 * z) / 92160.0
    return z + g1 / freedom + g2 / freedom**2 + g3 / freedom**3 + g4 / freedom**4


def half_width(freedom: float, sure: float = 0.95) -> float:
    """Standard errors on either side of an estimate between which the truth lies, `sure` 0 … 1."""
    return t_quantile(0.5 + sure / 2.0, freedom)
