"""Boost against spark: what a degree is worth in kPa, and whether more spark lowers boost."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.student import half_width
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.pulls.gain import Gains
from uchiwa.core.pulls.runs import Bands, friction

_APART_KPA = 5.0
_APART_DEG = 1.5


@dataclass(frozen=True)
class Trade:
    """What spark and pressure are worth in one band.

    Attributes:
        centre: of the band, rpm.
        per_degree: Nm that a degree more gives.
        per_kpa: Nm that a kPa more gives.
        measured: whether that comes from runs of unlike pressure; otherwise by the gas law.
        kpa_per_degree: kPa that are worth as much as a degree.
        boost_per_degree: kPa by which boost changed with each degree more, in runs at the same setting otherwise; NaN
            if it cannot be told from chance.
    """

    centre: float
    per_degree: float
    per_kpa: float
    measured: bool
    kpa_per_degree: float
    boost_per_degree: float


def trades(bands: Bands, told: Gains, displacement: float | None = None) -> tuple[Trade, ...]:
    """The comparison for each band that has a gain and an intake pressure.

    By the gas law torque before friction follows pressure: per kPa (T + F) / p.
    """
    lost = friction(bands.centres, displacement)
    found: list[Trade] = []
    for band, gain in enumerate(told.bands):
        pressure = float(bands.reference[band, 0])
        if not np.isfinite(gain.gain) or not np.isfinite(pressure):
            continue
        runs = list(gain.runs)
        law = (gain.level + float(lost[band])) / pressure
        own = _by_runs(bands.torque[runs, band], bands.spark[runs, band], bands.pressure[runs, band], gain.gain)
        per_kpa = law if own is None else own
        found.append(
            Trade(
                gain.centre, gain.gain, per_kpa, own is not None, gain.gain / per_kpa,
                boost_slope(bands.spark[runs, band], bands.boost[runs, band]),
            )
        )  # fmt: skip
    return tuple(found)


def _by_runs(torque: FloatArray, spark: FloatArray, pressure: FloatArray, per_degree: float) -> float | None:
    """Nm per kPa from runs whose pressure differs, their torque freed of their spark's share; None if too alike."""
    use = np.isfinite(torque) & np.isfinite(pressure) & np.isfinite(spark)
    if int(use.sum()) < 3 or float(np.ptp(pressure[use])) < _APART_KPA:
        return None
    freed = torque[use] - per_degree * (spark[use] - spark[use].mean())
    slope = float(np.polynomial.polynomial.polyfit(pressure[use], freed, 1)[1])
    return slope if slope > 0 else None


def boost_slope(spark: FloatArray, boost: FloatArray) -> float:
    """Change of boost with spark, kPa per degree; NaN unless it is told from chance (95 %).

    Where more spark lowers boost, there was too little before: heat that should have pushed the piston went to the
    turbine.
    """
    use = np.isfinite(spark) & np.isfinite(boost)
    if int(use.sum()) < 4 or float(np.ptp(spark[use])) < _APART_DEG:
        return float("nan")
    d = spark[use] - spark[use].mean()
    slope = float((d * boost[use]).sum() / (d**2).sum())
    left = boost[use] - boost[use].mean() - slope * d
    free = int(use.sum()) - 2
    error = float(np.sqrt((left**2).sum() / free / (d**2).sum()))
    return slope if abs(slope) > half_width(free) * error else float("nan")
