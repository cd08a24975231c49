"""The stand-in cars: what is true of each, and the calibration it comes with."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.log import FloatArray
from uchiwa.core.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.standin.chassis import Chassis
from uchiwa.standin.engine import EngineTruth
from uchiwa.standin.lookup import Lookup


@dataclass(frozen=True)
class StandInCar:
    """A simulated car.

    Attributes:
        id, title: what it is called.
        truth: the engine as it really is.
        chassis: the car around it.
        base: the calibration that it comes with.
    """

    id: str
    title: str
    truth: EngineTruth
    chassis: Chassis
    base: Callable[[], Calibration]


_SPEEDS = (600, 900, 1200, 1600, 2000, 2400, 2800, 3200, 3600, 4000, 4500, 5000, 5500, 6000, 6500)
_PRESSURES = (20, 30, 40, 50, 60, 70, 80, 90, 100, 120, 140, 160, 180)


def _pike_breathing(speed: float, pressure: float) -> float:
    """The true volumetric efficiency of the Corvid Pike, %."""
    hump = 31.0 * math.exp(-(((speed - 4400.0) / 3000.0) ** 2))
    runner = 1.6 * math.sin((speed - 900.0) / 1000.0)
    filling = 1.0 - 0.30 * math.exp(-(pressure - 8.0) / 42.0)
    return (58.0 + hump + runner) * filling * (1.0 + 0.0004 * (pressure - 100.0))


def _pike_guess(speed: float, pressure: float) -> float:
    """How far the base calibration's VE is from the truth, as a factor: another engine's habits, not noise."""
    low = 0.085 * math.exp(-(((speed - 2300.0) / 900.0) ** 2) - ((pressure - 58.0) / 26.0) ** 2)
    high = 0.075 * math.exp(-(((speed - 4100.0) / 1100.0) ** 2) - ((pressure - 112.0) / 30.0) ** 2)
    tilt = 0.03 * math.sin(speed / 1500.0 + 0.6) + 0.025 * math.cos(pressure / 38.0)
    return 1.0 - low + high - tilt


def _fine_truth() -> Lookup:
    """The true VE on a fine grid, so that a simulated step costs a lookup and not three exponentials."""
    speeds = [float(speed) for speed in range(300, 7301, 50)]
    pressures = [float(pressure) for pressure in range(8, 242, 2)]
    return Lookup(speeds, pressures, [[_pike_breathing(s, p) for s in speeds] for p in pressures])


def _axis(quantity: str, unit: str, points: tuple[int, ...]) -> Axis:
    return Axis(quantity, unit, frozen([float(point) for point in points]))


def _over_speed_and_pressure(
    table_id: str,
    title: str,
    role: str,
    unit: str,
    value: Callable[[float, float], float],
    *,
    decimals: int,
    limits: tuple[float, float],
) -> Table:
    grid = [[value(speed, pressure) for speed in _SPEEDS] for pressure in _PRESSURES]
    return Table(
        table_id,
        title,
        role,
        unit,
        _axis("engine_speed", "rpm", _SPEEDS),
        _axis("manifold_pressure", "kPa", _PRESSURES),
        frozen(np.clip(np.round(np.array(grid), decimals), *limits)),
        limits[0],
        limits[1],
        decimals,
    )


def _pike_target(_speed: float, pressure: float) -> float:
    if pressure <= 90:
        return 1.0
    return 1.0 - min((pressure - 90.0) / 70.0, 1.0) * 0.20


def _pike_spark(speed: float, pressure: float) -> float:
    return min(33.0 - 0.135 * (pressure - 30.0) + speed / 420.0, 42.0)


def pike_base() -> Calibration:
    """The calibration that the Corvid Pike arrives with: a plausible table for another engine of its size."""
    warm_axis = _axis("coolant_temperature", "degC", (-20, 0, 20, 40, 60, 80))
    warmup = Table(
        "warmup", "Warm-up factor", "warmup_factor", "%", warm_axis, None,
        frozen([152.0, 136.0, 122.0, 112.0, 104.0, 100.0]), 100.0, 250.0, 1,
    )  # fmt: skip
    return Calibration(
        "corvid-pike",
        "Corvid Pike 2.0 turbo, as delivered",
        (
            Constant("displacement", "displacement", 1.998, "L"),
            Constant("cylinders", "cylinders", 4, "1"),
            Constant("stoichiometric_ratio", "stoichiometric_ratio", 14.7, "1"),
            Constant("injector_flow", "injector_flow", 6.9, "g/s"),
            Constant("injector_dead_time", "injector_dead_time", 0.85, "ms"),
        ),
        (
            _over_speed_and_pressure(
                "ve_main", "Volumetric efficiency", "volumetric_efficiency", "%",
                lambda s, p: _pike_breathing(s, p) * _pike_guess(s, p), decimals=1, limits=(0.0, 160.0),
            ),
            _over_speed_and_pressure(
                "lambda_target", "λ target", "lambda_target", "1", _pike_target, decimals=3, limits=(0.65, 1.2),
            ),
            _over_speed_and_pressure(
                "spark_main", "Spark advance", "spark_advance", "deg", _pike_spark, decimals=1, limits=(-10.0, 50.0),
            ),
            warmup,
        ),
    )  # fmt: skip


CARS: dict[str, StandInCar] = {
    "corvid-pike": StandInCar("corvid-pike", "Corvid Pike", EngineTruth(1.998, 4, _fine_truth()), Chassis(), pike_base),
}


def car_named(name: str) -> StandInCar:
    """The stand-in car of this id.

    Raises:
        BadInput: there is none; the message lists what there is.
    """
    if name not in CARS:
        raise BadInput(f"there is no stand-in car “{name}”", advice=f"the cars are {', '.join(CARS)}")
    return CARS[name]


def true_grid(car: StandInCar, table: Table) -> FloatArray:
    """The true volumetric efficiency at a table's breakpoints, %; shape (rows, columns)."""
    if table.y is None:
        raise ValueError("a volumetric-efficiency table has two axes")
    return np.array(
        [
            [car.truth.volumetric_efficiency(float(x), float(y)) for x in table.x.breakpoints]
            for y in table.y.breakpoints
        ]
    )
