"""The stand-in cars: what is true of each, and the calibration it comes with."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.standin.chassis import Chassis
from uchiwa.standin.engine import EngineTruth
from uchiwa.standin.files import PIKE_FILE, TERN_FILE, WREN_FILE
from uchiwa.standin.knocking import KnockSensor
from uchiwa.standin.logger import PIKE_LOGGER, TERN_LOGGER, WREN_LOGGER, Logger
from uchiwa.standin.lookup import Lookup


@dataclass(frozen=True)
class StandInCar:
    """A simulated car.

    Attributes:
        id, title: what it is called.
        truth: the engine as it really is.
        chassis: the car around it.
        base: the calibration that it comes with.
        file: what its owner would tell of it.
        logger: how its logger writes.
        meter: frequency of its airflow meter (Hz) by airflow (g/s), if it has one.
        ethanol: % in its tank by seed, if it has a sensor for that.
        wideband: whether it has a wideband sensor.
        trim_step: fuel trims are reported in steps of so many %; 0 for as they are.
        knock_sensor: what its knock sensor hears.
        knock_channels: whether level, limit and count of knock can be recorded.
        meter_quantity, meter_noise: what its meter gives, and the scatter of that.
        actuator: air that its idle actuator lets in for each gram asked for, where its calibration idles by a table.
        blown_once_clamped: whether it gets its supercharger, and a regulator that adds fuel with boost, once the clamp of its
            airflow signal is in place.
    """

    id: str
    title: str
    truth: EngineTruth
    chassis: Chassis
    base: Callable[[], Calibration]
    logger: Logger
    file: CarFile
    meter: Callable[[float], float] | None = None
    ethanol: Callable[[int], float] | None = None
    wideband: bool = True
    trim_step: float = 0.0
    knock_sensor: KnockSensor = field(default_factory=KnockSensor)
    knock_channels: bool = False
    meter_quantity: str = "airflow_frequency"
    meter_noise: float = 6.0
    actuator: float = 1.0
    blown_once_clamped: bool = False


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
    return Calibration(
        "corvid-pike",
        "Corvid Pike 2.0 turbo, as delivered",
        _constants(1.998, 4, 14.7, 6.9),
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
            _warmup(),
        ),
    )  # fmt: skip


def _wren_breathing(speed: float, ratio_percent: float) -> float:
    """The true volumetric efficiency of the Bramble Wren, %, over the pressure ratio in %."""
    hump = 24.0 * math.exp(-(((speed - 4900.0) / 2800.0) ** 2))
    filling = 1.0 - 0.32 * math.exp(-(ratio_percent - 10.0) / 40.0)
    return (61.0 + hump + 1.4 * math.sin((speed - 700.0) / 900.0)) * filling


def _wren_guess(speed: float, ratio_percent: float) -> float:
    low = 0.07 * math.exp(-(((speed - 2600.0) / 1000.0) ** 2) - ((ratio_percent - 62.0) / 28.0) ** 2)
    return 1.0 + low - 0.035 * math.sin(speed / 1300.0) - 0.03 * math.cos(ratio_percent / 34.0)


_RATIOS = (0.2, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0, 1.15, 1.3, 1.45, 1.6)


def _constants(displacement: float, cylinders: int, stoichiometric: float, flow: float) -> tuple[Constant, ...]:
    return (
        Constant("displacement", "displacement", displacement, "L"),
        Constant("cylinders", "cylinders", cylinders, "1"),
        Constant("stoichiometric_ratio", "stoichiometric_ratio", stoichiometric, "1"),
        Constant("injector_flow", "injector_flow", flow, "g/s"),
        Constant("injector_dead_time", "injector_dead_time", 0.85, "ms"),
        Constant("overrun_cut_enabled", "overrun_cut_enabled", 1.0, "1"),
        Constant("closed_loop_enabled", "closed_loop_enabled", 1.0, "1"),
    )


def _warmup() -> Table:
    axis = _axis("coolant_temperature", "degC", (-20, 0, 20, 40, 60, 80))
    values = frozen([152.0, 136.0, 122.0, 112.0, 104.0, 100.0])
    return Table("warmup", "Warm-up factor", "warmup_factor", "%", axis, None, values, 100.0, 250.0, 1)


def wren_base() -> Calibration:
    """The calibration that the Bramble Wren arrives with: VE over engine speed and pressure ratio."""
    ratio = Axis("pressure_ratio", "1", frozen(list(_RATIOS)))

    def over_ratio(
        table_id: str,
        title: str,
        role: str,
        unit: str,
        value: Callable[[float, float], float],
        decimals: int,
        limits: tuple[float, float],
    ) -> Table:
        grid = np.array([[value(speed, one * 100.0) for speed in _SPEEDS] for one in _RATIOS])
        return Table(
            table_id,
            title,
            role,
            unit,
            _axis("engine_speed", "rpm", _SPEEDS),
            ratio,
            frozen(np.clip(np.round(grid, decimals), *limits)),
            *limits,
            decimals,
        )

    return Calibration(
        "bramble-wren",
        "Bramble Wren 1.4 supercharged, as delivered",
        _constants(1.398, 4, 14.1, 6.2),
        (
            over_ratio("ve_main", "Volumetric efficiency", "volumetric_efficiency", "%", lambda s, p: _wren_breathing(s, p) * _wren_guess(s, p), 1, (0.0, 160.0)),
            over_ratio("lambda_target", "λ target", "lambda_target", "1", _pike_target, 3, (0.65, 1.2)),
            over_ratio("spark_main", "Spark advance", "spark_advance", "deg", _pike_spark, 1, (-10.0, 50.0)),
            _warmup(),
        ),
    )  # fmt: skip


_FREQUENCIES = (
    1500,
    2000,
    2500,
    3000,
    3500,
    4000,
    4500,
    5000,
    5500,
    6000,
    6500,
    7000,
    7500,
    8000,
    8500,
    9000,
    9500,
    10000,
    10500,
    11000,
)


def _tern_frequency(airflow: float) -> float:
    """The true frequency of the Larkspur Tern's airflow meter, Hz, by airflow in g/s."""
    return float(1150.0 + 640.0 * max(airflow, 0.0) ** 0.48)


def tern_airflow(frequency: float) -> float:
    """The true airflow in g/s at a frequency of the Larkspur Tern's meter."""
    return float(max((frequency - 1150.0) / 640.0, 0.0) ** (1.0 / 0.48))


def tern_base() -> Calibration:
    """The calibration that the Larkspur Tern arrives with: an airflow meter's curve for another housing."""

    def guess(frequency: float) -> float:
        return 1.0 + 0.06 * math.sin(frequency / 1400.0) - 0.025

    speed_density = _over_speed_and_pressure(
        "lambda_target",
        "λ target",
        "lambda_target",
        "1",
        lambda s, p: 1.0 if p < 85 or s < 900 else 0.9,
        decimals=3,
        limits=(0.65, 1.2),
    )
    curve = Table(
        "maf_curve", "Airflow meter", "maf_curve", "g/s", _axis("airflow_frequency", "Hz", _FREQUENCIES), None,
        frozen([round(tern_airflow(f) * guess(f), 2) for f in _FREQUENCIES]), 0.0, 600.0, 2,
    )  # fmt: skip
    spark = _over_speed_and_pressure(
        "spark_main", "Spark advance", "spark_advance", "deg", _pike_spark, decimals=1, limits=(-10.0, 50.0)
    )
    return Calibration(
        "larkspur-tern",
        "Larkspur Tern 3.2 six, as delivered",
        _constants(3.189, 6, 14.7, 4.4),
        (curve, speed_density, spark, _warmup()),
    )


def _lookup_over(value: Callable[[float, float], float]) -> Lookup:
    speeds = [float(speed) for speed in range(0, 7401, 50)]
    pressures = [float(pressure) for pressure in range(8, 242, 2)]
    return Lookup(speeds, pressures, [[value(s, p) for s in speeds] for p in pressures])


def _tern_breathing(speed: float, pressure: float) -> float:
    hump = 26.0 * math.exp(-(((speed - 3900.0) / 2600.0) ** 2))
    return (60.0 + hump) * (1.0 - 0.30 * math.exp(-(pressure - 8.0) / 42.0))


CARS: dict[str, StandInCar] = {
    car.id: car
    for car in (
        StandInCar("corvid-pike", "Corvid Pike", EngineTruth(1.998, 4, _fine_truth()), Chassis(), pike_base, PIKE_LOGGER, PIKE_FILE),
        StandInCar(
            "larkspur-tern",
            "Larkspur Tern",
            EngineTruth(3.189, 6, _lookup_over(_tern_breathing), manifold_volume=6.0, throttle_area=3300.0, wastegate_boost=0.0, bank_spread=0.008),
            Chassis(mass=1520.0, drag_area=0.72, gears=(12.4, 7.6, 5.2, 4.0, 3.3)),
            tern_base,
            TERN_LOGGER,
            TERN_FILE,
            meter=_tern_frequency,
            wideband=False,
            trim_step=0.78125,
        ),
        StandInCar(
            "bramble-wren",
            "Bramble Wren",
            EngineTruth(1.398, 4, _lookup_over(_wren_breathing), manifold_volume=3.0, throttle_area=1900.0, wastegate_boost=45.0, blower=True, over_ratio=True),
            Chassis(mass=690.0, tyre_radius=0.285, drag_area=0.60, gears=(12.9, 8.0, 5.6, 4.3, 3.6)),
            wren_base,
            WREN_LOGGER,
            WREN_FILE,
            ethanol=lambda seed: 20.0 + 11.0 * (seed % 5),
        ),
    )
}  # fmt: skip


def true_grid(car: StandInCar, table: Table) -> FloatArray:
    """The true volumetric efficiency at a table's breakpoints, %; shape (rows, columns)."""
    if table.y is None:
        raise ValueError("a volumetric-efficiency table has two axes")
    scale = 100.0 if table.y.quantity == "pressure_ratio" else 1.0
    return np.array(
        [
            [car.truth.volumetric_efficiency(float(x), float(y) * scale) for x in table.x.breakpoints]
            for y in table.y.breakpoints
        ]
    )


def calibrated(car: StandInCar) -> Calibration:
    """The car's calibration with its airflow model put right: what the whole job is after."""
    base = car.base()
    curves = base.by_role("maf_curve")
    if curves:
        curve = curves[0]
        return base.with_table(curve.with_grid(np.array([tern_airflow(float(x)) for x in curve.x.breakpoints])))
    table = base.by_role("volumetric_efficiency")[0]
    return base.with_table(table.with_grid(true_grid(car, table)))
