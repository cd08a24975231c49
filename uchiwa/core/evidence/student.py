"""Intervals by Student's t distribution, for estimates from few runs."""

from __future__ import annotations

from scipy.special import stdtrit


def half_width(freedom: float, sure: float = 0.95) -> float:
    """Standard errors on either side of an estimate between which the truth lies.

    Args:
        freedom: degrees of freedom, ≥ 1.
        sure: 0 … 1.
    """
    return float(stdtrit(freedom, 0.5 + sure / 2.0))
