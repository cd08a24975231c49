"""Units: what loggers write, and conversion to each quantity's canonical unit (by pint)."""

from __future__ import annotations

from functools import cache, lru_cache
from typing import TypeAlias

import pint

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray


@cache
def _registry() -> pint.UnitRegistry[float]:
    """All units; made when one is first asked for, since it takes half a second."""
    made: pint.UnitRegistry[float] = pint.UnitRegistry()
    # inHg at 0 °C is 3386.389 Pa (NIST SP 811, B.8).
    made.define("inch_Hg_32F = 3386.389 pascal")
    return made


# What people and loggers write, in lower case without blanks, and what pint calls it. The empty text is a number without
# unit.
_WRITTEN: dict[str, str] = {
    "": "dimensionless",
    "1": "dimensionless",
    "-": "dimensionless",
    "λ": "dimensionless",
    "lambda": "dimensionless",
    "0/1": "dimensionless",
    "on/off": "dimensionless",
    "bool": "dimensionless",
    "flag": "dimensionless",
    "bit": "dimensionless",
    "state": "dimensionless",
    "count": "dimensionless",
    "counts": "dimensionless",
    "ratio": "dimensionless",
    "fraction": "dimensionless",
    "none": "dimensionless",
    "%": "percent",
    "percent": "percent",
    "rpm": "revolution / minute",
    "1/min": "revolution / minute",
    "r/min": "revolution / minute",
    "rev/min": "revolution / minute",
    "u/min": "revolution / minute",
    "tr/min": "revolution / minute",
    "min-1": "revolution / minute",
    "krpm": "1000 * revolution / minute",
    "1/s": "revolution / second",
    "rps": "revolution / second",
    "km/h": "kilometer / hour",
    "kph": "kilometer / hour",
    "kmh": "kilometer / hour",
    "km/hr": "kilometer / hour",
    "mph": "mile / hour",
    "mi/h": "mile / hour",
    "miles/h": "mile / hour",
    "m/s": "meter / second",
    "kpa": "kilopascal",
    "bar": "bar",
    "mbar": "millibar",
    "hpa": "hectopascal",
    "psi": "psi",
    "pa": "pascal",
    "mpa": "megapascal",
    "atm": "atmosphere",
    "inhg": "inch_Hg_32F",
    '"hg': "inch_Hg_32F",
    "mmhg": "mmHg",
    "g/s": "gram / second",
    "kg/h": "kilogram / hour",
    "kg/hr": "kilogram / hour",
    "g/sec": "gram / second",
    "mg/s": "milligram / second",
    "kg/s": "kilogram / second",
    "kg/min": "kilogram / minute",
    "lb/min": "pound / minute",
    "lbs/min": "pound / minute",
    "lb/h": "pound / hour",
    "lb/hr": "pound / hour",
    "mg/stroke": "milligram",
    "mg/str": "milligram",
    "mg/stk": "milligram",
    "mg/cyl": "milligram",
    "mg/hub": "milligram",
    "g/stroke": "gram",
    "g/cyl": "gram",
    "hz": "hertz",
    "khz": "kilohertz",
    "v": "volt",
    "mv": "millivolt",
    "volt": "volt",
    "volts": "volt",
    "millivolt": "millivolt",
    "g": "gram",
    "mg": "milligram",
    "ms": "millisecond",
    "us": "microsecond",
    "µs": "microsecond",
    "msec": "millisecond",
    "millisecond": "millisecond",
    "milliseconds": "millisecond",
    "usec": "microsecond",
    "μs": "microsecond",
    "microseconds": "microsecond",
    "s": "second",
    "sec": "second",
    "secs": "second",
    "second": "second",
    "seconds": "second",
    "min": "minute",
    "deg": "degree",
    "°": "degree",
    "degrees": "degree",
    "°btdc": "degree",
    "degbtdc": "degree",
    "°ca": "degree",
    "degca": "degree",
    "°kw": "degree",
    "rad": "radian",
    "celsius": "degC",
    "fahrenheit": "degF",
    "kelvin": "kelvin",
    "k": "kelvin",
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
    "ft-lb": "foot * force_pound",
    "lb·ft": "foot * force_pound",
    "kw": "kilowatt",
    "ps": "metric_horsepower",
    "hp": "horsepower",
    "m/s²": "meter / second ** 2",
    "l": "liter",
    "cc": "centimeter ** 3",
}


def plain_unit(written: str) -> str:
    """A unit without blanks and case, as it stands in the list of what people write."""
    return "".join(written.lower().split()).replace("º", "°").rstrip(".")


def known_unit(written: str) -> bool:
    """Whether `written` is a unit that can be converted."""
    return plain_unit(written) in _WRITTEN


Unit: TypeAlias = pint.Unit
_SHORT = ("rpm", "km/h", "kPa", "g/s", "Hz", "V", "g", "ms", "Nm", "kW", "m/s²", "s", "L")
_ALIKE = ("1", "%", "deg", "degC")
_PHYSICAL = {"J/(g·K)": "joule / gram / kelvin", "K": "kelvin"}


def pint_unit(written: str) -> Unit | None:
    """A unit as pint has it, by what people write; None if it is not known."""
    name = _PHYSICAL.get(written) or _WRITTEN.get(plain_unit(written), "1000 * ")
    return None if name.startswith("1000 * ") else _registry().Unit(name)


def powered(unit: Unit, exponent: float) -> Unit:
    """A unit to a power; to the power of nothing, a plain number."""
    raised = (unit**exponent)._units
    parts = [f"{name} ** {power}" for name, power in raised.items() if power]
    return _registry().Unit(" * ".join(parts) or "dimensionless")


def unit_text(unit: Unit) -> str:
    """A unit as it is shown: one of the canonical ones where it is the same, else pint's short form."""
    for written in (*_ALIKE, *_SHORT):
        known = _registry().Unit(_WRITTEN[plain_unit(written)])
        if known == unit:
            return written
        if written in _SHORT and known.dimensionality == unit.dimensionality:
            ratio = float((1.0 * unit).to(known).magnitude)
            if abs(ratio - 1.0) < 1e-9:
                return written
    text = f"{unit:~P}"
    for long, short in (("rev/min", "rpm"), ("turn/min", "rpm"), ("delta_degC", "°C"), ("Δ°C", "°C"), ("kelvin", "K")):
        text = text.replace(long, short)
    return text


_ANGLES = frozenset({"degree", "radian"})
_PER_TURN = 60.0
"""An engine speed in Hz is turns a second."""


@lru_cache(maxsize=512)
def same_dimension(written: str, canonical: str) -> bool:
    """Whether a known unit measures what `canonical` measures; an angle is not a share, though neither has a dimension."""
    if (_WRITTEN[plain_unit(written)] in _ANGLES) != (_WRITTEN[plain_unit(canonical)] in _ANGLES):
        return False
    source, target = (
        _registry().Unit(_WRITTEN[plain_unit(text)].removeprefix("1000 * ")) for text in (written, canonical)
    )
    return bool(source.is_compatible_with(target))


@lru_cache(maxsize=512)
def _line(written: str, canonical: str) -> tuple[float, float]:
    """Factor and offset that turn `written` into `canonical`: every unit used here is a straight line of another."""
    names = [_WRITTEN[plain_unit(text)] for text in (written, canonical)]
    if names == ["hertz", "revolution / minute"]:
        return _PER_TURN, 0.0
    scale = 1000.0 if names[0].startswith("1000 * ") else 1.0
    source, target = (_registry().Unit(name.removeprefix("1000 * ")) for name in names)
    zero = float(_registry().Quantity(0.0, source).to(target).magnitude)
    hundred = float(_registry().Quantity(100.0 * scale, source).to(target).magnitude)
    return (hundred - zero) / 100.0, zero


def convert(values: FloatArray, written: str, canonical: str) -> FloatArray:
    """Values given in the unit `written`, in the unit `canonical`.

    Raises:
        BadInput: the unit is not known, or measures something else.
    """
    if plain_unit(written) == plain_unit(canonical):
        return values
    if not known_unit(written):
        raise BadInput(f"the unit “{written}” is not known", advice=f"write it as {canonical} or another common unit")
    try:
        if not same_dimension(written, canonical):
            raise pint.DimensionalityError(written, canonical)
        factor, offset = _line(written, canonical)
    except pint.DimensionalityError as error:
        raise BadInput(
            f"“{written}” cannot be turned into {canonical}", advice="check the unit in the header"
        ) from error
    if factor == 1.0 and offset == 0.0:
        return values
    return values * factor + offset
