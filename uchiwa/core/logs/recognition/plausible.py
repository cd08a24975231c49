"""Whether readings can be what their name and unit say, judged by their range."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.units import convert, known_unit, same_dimension

AFR = "AFR"
AFR_PETROL = "AFR of petrol"
PHI = "fuel-air ratio"
FACTOR = "factor"
PETROL = 14.7
_SAMPLE = 20_000


@dataclass(frozen=True)
class PlausibleRange:
    """The range that a running engine's readings keep to, wider than any healthy log's.

    Attributes:
        low, high: limits of the middle 96 % of the readings, canonical unit.
        reaches: the upper 2 % must lie at or above this, or the unit is another one.
        others: units worth trying when the stated one does not fit.
    """

    low: float
    high: float
    reaches: float
    others: tuple[str, ...]


RANGES: dict[str, PlausibleRange] = {
    "engine_speed": PlausibleRange(-100, 20000, -100, ()),
    "manifold_pressure": PlausibleRange(7, 480, 26.5, ("kPa", "psi", "bar", "mbar", "inHg")),
    "barometric_pressure": PlausibleRange(55, 110, 55, ("kPa", "psi", "bar", "mbar", "inHg")),
    "coolant_temperature": PlausibleRange(-45, 128, -45, ("°F", "K")),
    "intake_air_temperature": PlausibleRange(-45, 125, -45, ("°F", "K")),
    "throttle_position": PlausibleRange(-2, 105, -2, ()),
    "lambda_measured": PlausibleRange(0.4, 2.6, 0.55, (AFR, "1")),
    "lambda_measured_2": PlausibleRange(0.4, 2.6, 0.55, (AFR, "1")),
    "lambda_target": PlausibleRange(0.5, 2.0, 0.6, (AFR, "1")),
    "short_term_trim": PlausibleRange(-60, 60, -60, (FACTOR,)),
    "short_term_trim_2": PlausibleRange(-60, 60, -60, (FACTOR,)),
    "long_term_trim": PlausibleRange(-60, 60, -60, (FACTOR,)),
    "long_term_trim_2": PlausibleRange(-60, 60, -60, (FACTOR,)),
    "battery_voltage": PlausibleRange(5, 18, 8, ("mV", "V")),
    "injector_pulse": PlausibleRange(0, 45, 0.3, ("us", "s", "ms")),
    "ethanol_content": PlausibleRange(0, 100, 0, ()),
    "airflow_voltage": PlausibleRange(0, 5.6, 0.2, ("mV", "V")),
    "mixture_voltage": PlausibleRange(-0.1, 5.6, 0, ("mV", "V")),
    "spark_advance": PlausibleRange(-40, 75, -40, ("rad",)),
}


def middle(values: FloatArray) -> tuple[float, float] | None:
    """The 2 % and 98 % quantiles of the readings, from an even choice of at most 20,000; None without readings."""
    finite = values[:: max(1, values.size // _SAMPLE)]
    finite = finite[np.isfinite(finite)]
    if finite.size == 0:
        return None
    low, high = np.quantile(finite, (0.02, 0.98))
    return float(low), float(high)


def as_unit(values: FloatArray, unit: str, canonical: str, stoichiometric: FloatArray | float) -> FloatArray:
    """Readings in `unit`, which may also be AFR (mass of air per mass of fuel), petrol's AFR for any fuel, φ = 1/λ, or a
    trim as a factor.
    """
    if unit == AFR:
        lambda_: FloatArray = values / stoichiometric
        return lambda_
    if unit == AFR_PETROL:
        return values / PETROL
    if unit == PHI:
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(values > 0, 1.0 / values, np.nan)
    if unit == FACTOR:
        return (values - 1.0) * 100.0
    return convert(values, unit, canonical)


def fits(quantity: str, values: FloatArray) -> bool:
    """Whether canonical readings keep to the quantity's range; True where no range is known or nothing was read."""
    known, span = RANGES.get(quantity), middle(values)
    if known is None or span is None:
        return True
    return span[0] >= known.low and span[1] <= known.high and span[1] >= known.reaches


def middle_fits(quantity: str, values: FloatArray) -> bool:
    """Whether the median keeps to the range: then the readings beyond it are a sensor's fault, not the unit's."""
    known, finite = RANGES.get(quantity), values[np.isfinite(values)]
    return known is None or finite.size == 0 or known.low <= float(np.median(finite)) <= known.high


def better_unit(quantity: str, canonical: str, values: FloatArray, stated: str, stoichiometric: float) -> str | None:
    """The one unit in which readings that do not fit as `stated` do fit; None if there is no or more than one such.

    Args:
        quantity: its id.
        canonical: its canonical unit.
        values: readings as the logger wrote them.
        stated: the unit they were taken for.
        stoichiometric: air-fuel ratio of the fuel.
    """
    fitting: list[str] = []
    for unit in RANGES[quantity].others if quantity in RANGES else ():
        if unit == stated or (unit not in (AFR, FACTOR) and not (known_unit(unit) and same_dimension(unit, canonical))):
            continue
        if unit == FACTOR and not _around_one(values):
            continue
        if fits(quantity, as_unit(values, unit, canonical, stoichiometric)):
            fitting.append(unit)
    return fitting[0] if fitting else None


def _around_one(values: FloatArray) -> bool:
    span = middle(values)
    return span is not None and span[0] > 0.5 and span[1] < 1.6
