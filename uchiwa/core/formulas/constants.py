"""The constants that a formula can name."""

from __future__ import annotations

import ast
from dataclasses import dataclass

from uchiwa.core.airflow.speed_density import GAS_CONSTANT, ZERO_CELSIUS
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.formulas.language import Formula, MissingChannelError
from uchiwa.core.tables.table import Calibration

PHYSICAL: dict[str, tuple[float, str]] = {
    "gas_constant": (GAS_CONSTANT / 1000.0, "J/(g·K)"),
    "zero_celsius": (ZERO_CELSIUS, "K"),
}
OF_A_CAR: dict[str, str] = {
    "displacement": "L",
    "cylinders": "1",
    "injector_flow": "g/s",
    "injector_dead_time": "ms",
    "injector_pressure": "kPa",
    "rail_pressure": "kPa",
    "ethanol": "%",
}


@dataclass(frozen=True)
class Value:
    """A constant's value and unit."""

    value: float
    unit: str


def constant_of(
    formula: Formula, node: ast.Call, name: str, calibration: Calibration | None, car: CarFile | None
) -> Value:
    """A physical constant, else one of the calibration by role or id, else one of the car file.

    Raises:
        MissingChannelError: none of them has it.
    """
    if name in PHYSICAL:
        return Value(*PHYSICAL[name])
    for constant in calibration.constants if calibration is not None else ():
        if name in (constant.role, constant.id):
            return Value(constant.value, constant.unit)
    found: dict[str, float | None] = {}
    if car is not None:
        found = {
            "displacement": car.displacement,
            "cylinders": float(car.cylinders),
            "injector_flow": car.injector_flow,
            "injector_dead_time": car.injector_dead_time,
            "injector_pressure": car.injector_pressure,
            "rail_pressure": car.rail_pressure,
            "ethanol": car.known_fuel.ethanol_percent,
        }
    elif name == "ethanol":
        found = {"ethanol": 0.0}
    value = found.get(name)
    if value is not None:
        return Value(value, OF_A_CAR[name])
    advice = "write it into the car file" if name in OF_A_CAR else f"there are {', '.join((*PHYSICAL, *OF_A_CAR))}"
    at = formula.position(node)
    raise MissingChannelError(
        formula.text,
        at,
        f"neither calibration nor car file has the constant “{name}”",
        advice,
        len(name),
        lacking=f"constant {name}",
    )


def dead_times(formula: Formula, node: ast.Call, car: CarFile | None) -> tuple[tuple[float, float], ...]:
    """The car file's dead times by voltage, (volts, ms).

    Raises:
        MissingChannelError: it has none.
    """
    points = car.dead_times if car is not None else ()
    if not points:
        raise MissingChannelError(
            formula.text,
            formula.position(node),
            "the car file has no dead times of the injectors",
            "write them into the car file",
            lacking="dead times of the injectors",
        )
    return points
