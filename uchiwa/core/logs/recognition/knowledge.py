"""What is known of a car and its logger before a log is looked at."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType

from uchiwa.core.cars.fuels import FUELS, Fuel
from uchiwa.core.cars.sensors import Line
from uchiwa.core.quantities.naming import plain_name
from uchiwa.core.quantities.units import plain_unit

STANDARD_BAROMETER = 101.325


@dataclass(frozen=True)
class Assignment:
    """What a person said a channel is: a quantity, or None for “leave it alone”; and its unit, if that was wrong."""

    quantity: str | None
    unit: str | None = None


def channel_key(name: str, unit: str) -> str:
    """By what an assignment is remembered."""
    return f"{plain_name(name)} [{plain_unit(unit)}]"


@dataclass(frozen=True)
class Knowledge:
    """What is known of a car and its logger before a log is looked at.

    Attributes:
        fuel: gives the stoichiometric ratio that turns AFR into λ.
        gauge_ratio: the ratio a gauge multiplies its λ by, if it is fixed; None: the fuel's own.
        assignments: what people said about channels, by `channel_key`.
        lines: sensor lines by the quantity of the raw voltage, `mixture_voltage` or `pressure_voltage`.
        displacement: of the engine, L; None if nobody has said.
        barometer: kPa where the car is, by its altitude; None if nobody has said.
    """

    fuel: Fuel = FUELS["petrol"]
    gauge_ratio: float | None = None
    assignments: Mapping[str, Assignment] = field(default_factory=lambda: MappingProxyType({}))
    lines: Mapping[str, Line] = field(default_factory=lambda: MappingProxyType({}))
    displacement: float | None = None
    barometer: float | None = None


NOTHING_KNOWN = Knowledge()
