"""Units: what loggers write, and conversion to each quantity's canonical unit (by pint)."""

from __future__ import annotations

from functools import lru_cache

import pint

from uchiwa.core.errors import BadInput
from uchiwa.core.log import FloatArray

_registry: pint.UnitRegistry[float] = pint.UnitRegistry()

# What people and loggers write, in lower case, and what pint calls it. The empty text is a number without unit.
_WRITTEN: dict[str, str] = {
    "": "dimensionless",
    "1": "dimensionless",
    "-": "dimensionless",
    "λ": "dimensionless",
    "lambda": "dimensionless",
    "0/1": "dimensionless",
    "%": "percent",
    "percent": "percent",
    "rpm": "revolution / minute",
    "1/min": "revolution / minute",
    "r/min": "revolution / minute",
    "km/h": "kilometer / hour",
    "kph": "kilometer / hour",
    "kmh": "kilometer / hour",
    "mph": "mile / hour",
    "kpa": "kilopascal",
    "bar": "bar",
    "mbar": "millibar",
    "hpa": "hectopascal",
    "psi": "psi",
    "inhg": "inch_Hg_32F",
    "mmhg": "mmHg",
    "g/s": "gram / second",
    "kg/h": "kilogram / hour",
    "kg/hr": "kilogram / hour",
    "lb/min": "pound / minute",
    "hz": "hertz",
    "khz": "kilohertz",
    "v": "volt",
    "mv": "millivolt",
    "volts": "volt",
    "g": "gram",
    "mg": "milligram",
    "ms": "millisecond",
    "us": "microsecond",
    "µs": "microsecond",
    "s": "second",
    "min": "minute",
    "deg": "degree",
    "°": "degree",
    "degrees": "degree",
    "degc": "degC",
    "°c": "degC",
    "c": "degC",
    "degf": "degF",
    "°f": "degF",
    "f": "degF",
    "nm": "newton * meter",
    "n·m": "newton * meter",
    "lbft": "foot * force_pound",
    "lb-ft": "foot * force_pound",
    "kw": "kilowatt",
    "hp": "horsepower",
    "m/s²": "meter / second ** 2",
    "l": "liter",
    "cc": "centimeter ** 3",
}
# inHg at 0 °C is 3386.389 Pa (NIST SP 811, B.8).
_registry.define("inch_Hg_32F = 3386.389 pascal")


def known_unit(written: str) -> bool:
    """Whether `written` is a unit that can be converted."""
    return written.strip().lower() in _WRITTEN


@lru_cache(maxsize=512)
def _line(written: str, canonical: str) -> tuple[float, float]:
    """Factor and offset that turn `written` into `canonical`: every unit used here is a straight line of another."""
    source, target = (_registry.Unit(_WRITTEN[text.strip().lower()]) for text in (written, canonical))
    zero = float(_registry.Quantity(0.0, source).to(target).magnitude)
    hundred = float(_registry.Quantity(100.0, source).to(target).magnitude)
    return (hundred - zero) / 100.0, zero


def convert(values: FloatArray, written: str, canonical: str) -> FloatArray:
    """Values given in the unit `written`, in the unit `canonical`.

    Raises:
        BadInput: the unit is not known, or measures something else.
    """
    if written.strip().lower() == canonical.strip().lower():
        return values
    if not known_unit(written):
        raise BadInput(f"the unit “{written}” is not known", advice=f"write it as {canonical} or another common unit")
    try:
        factor, offset = _line(written, canonical)
    except pint.DimensionalityError as error:
        raise BadInput(
            f"“{written}” cannot be turned into {canonical}", advice="check the unit in the header"
        ) from error
    if factor == 1.0 and offset == 0.0:
        return values
    return values * factor + offset
