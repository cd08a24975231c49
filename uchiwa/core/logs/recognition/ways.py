"""The ways in which a channel of a quantity may be read, and how likely each is before the log is looked at."""

from __future__ import annotations

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.recognition.joint import MIXTURES, RARE, SHARES, STATED, TEMPERATURES, TRIMS, USUAL, ReadingWay
from uchiwa.core.logs.recognition.plausible import AFR, AFR_PETROL, FACTOR, PHI, as_unit
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import plain_unit

BY_NAME = 3.0
"""Weight of a unit that the channel's name tells, as AFR or λ."""
OTHERWISE = 4.0
"""How much less likely a pressure is the other kind, gauge or absolute, than its name has it."""
PETROLS, PETROLS_TARGET = 1.2, 3.2
"""How much less likely an air-fuel ratio is petrol's than the fuel's own: many gauges multiply λ by petrol's, whatever burns,
but hardly any controller its target.
"""
_PRESSURES = ("kPa", "psi", "bar", "mbar", "inHg")
_OTHERS: dict[str, tuple[str, ...]] = (
    dict.fromkeys(TEMPERATURES, ("°C", "°F", "K"))
    | dict.fromkeys(TRIMS, ("%", "1", FACTOR))
    | dict.fromkeys(MIXTURES, ("1", AFR))
    | dict.fromkeys(SHARES, ("%", "1"))
    | {
        "manifold_pressure": _PRESSURES,
        "boost_pressure": _PRESSURES,
        "barometric_pressure": (*_PRESSURES, "mmHg"),
        "ethanol_content": ("%", "1"),
        "airflow": ("g/s", "kg/h", "lb/min"),
    }
)
JUDGED = frozenset(_OTHERS)
"""Quantities whose channels are judged together."""
_RARE = frozenset({"K", "bar", "mmHg", "1"})


def same_unit(one: str, other: str) -> bool:
    """Whether two units are the same, however they are written."""
    alike = {
        "degc": "°c",
        "c": "°c",
        "celsius": "°c",
        "degf": "°f",
        "f": "°f",
        "fahrenheit": "°f",
        "kelvin": "k",
        "hpa": "mbar",
    }
    a, b = (alike.get(plain_unit(unit), plain_unit(unit)) for unit in (one, other))
    return a == b


def ways_of(
    quantity: str, unit: str, gauge: bool | None, *, stated: bool, by_name: bool, equivalence: bool, petrol: bool
) -> list[tuple[ReadingWay, float]]:
    """Ways in which a channel may be read, with their weights; what the file or its name says comes first.

    Args:
        quantity: its id, one of `JUDGED`.
        unit: as stated, or taken for want of one.
        gauge: of a pressure, whether the file says that it is a gauge's, or absolute.
        stated: whether the file states the unit.
        by_name: whether the channel's name does.
        equivalence: whether it is named an equivalence ratio, which some write as λ and some as 1/λ.
        petrol: whether the ratio is sure, for the fuel is petrol or the gauge's is known; else it may be petrol's.
    """
    first = STATED if stated else BY_NAME if by_name else USUAL
    units = [unit, *(other for other in _OTHERS[quantity] if not same_unit(other, unit))]
    if quantity in MIXTURES:
        units += [PHI] * (equivalence and unit != PHI) + [AFR_PETROL] * (not petrol)
    found: list[tuple[ReadingWay, float]] = []
    for one in units:
        weight = first if one == unit else RARE if one in _RARE else 0.0
        if one == PHI and equivalence:
            weight = first
        if one == AFR_PETROL:
            weight = (first if unit == AFR else 0.0) - (PETROLS_TARGET if quantity == "lambda_target" else PETROLS)
        if quantity not in ("manifold_pressure", "boost_pressure"):
            found.append((ReadingWay(one), weight))
            continue
        usual = quantity == "boost_pressure"
        for above in (usual, not usual):
            said = gauge if gauge is not None and one == unit else None
            off = 0.0 if above is (usual if said is None else said) else -STATED if said is not None else -OTHERWISE
            found.append((ReadingWay(one, above), weight + off))
    found.sort(key=lambda each: -each[1])
    return found


def canonical(
    values: FloatArray, quantity: str, way: ReadingWay, ratio: FloatArray | float, ambient: FloatArray | float
) -> FloatArray:
    """Readings in the canonical unit under a way; NaN where they cannot be in it."""
    try:
        read = as_unit(values, way.unit, QUANTITIES[quantity].unit, ratio)
    except BadInput:
        return np.full(values.shape, np.nan)
    if quantity == "manifold_pressure" and way.gauge:
        return read + ambient
    return read - ambient if quantity == "boost_pressure" and way.gauge is False else read
