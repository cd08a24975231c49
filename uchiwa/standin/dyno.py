"""A chassis dyno: sweeps a stand-in car through its speeds at full throttle and writes what it measured."""

from __future__ import annotations

import math
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.chassis import DRIVELINE
from uchiwa.standin.controller import Controller
from uchiwa.standin.engine import Engine
from uchiwa.standin.knocking import KnockControl
from uchiwa.standin.wideband import Wideband

_STEP_S = 0.02
_SETTLE_S = 3.0
_KNOTS = 6
_COLUMNS = (
    ("Engine speed", "engine_speed", 0),
    ("Torque", "wheel_torque", 1),
    ("Power", "wheel_power", 1),
    ("Boost", "boost_pressure", 1),
    ("Barometer", "barometric_pressure", 1),
    ("Intake air", "intake_air_temperature", 1),
    ("Lambda", "lambda_measured", 3),
    ("Ignition advance", "spark_advance", 1),
    ("Knock retard", "knock_retard", 1),
    ("Knock level", "knock_level", 3),
    ("Knock limit", "knock_limit", 3),
)


@dataclass(frozen=True)
class Dyno:
    """How a dyno measures.

    Attributes:
        scatter: standard deviation from run to run of the whole curve, as a share.
        shape: the same of its shape.
        grain: of single samples.
        sweep: rpm by which engine speed rises in a second.
        low, high: engine speeds of a run, rpm.
        soak: degC by which the intake air grows hotter from run to run.
    """

    scatter: float = 0.003
    shape: float = 0.001
    grain: float = 0.005
    sweep: float = 480.0
    low: float = 1800.0
    high: float = 6400.0
    soak: float = 0.4


def dyno_run(
    car: StandInCar,
    calibration: Calibration,
    seed: int,
    run: int = 1,
    *,
    offset: float = 0.0,
    dyno: Dyno | None = None,
) -> Log:
    """One run of a session; runs with the same seed have the same weather.

    Args:
        car: on the rollers.
        calibration: what its controller runs.
        seed: of the session.
        run: number of the run, from 1: the scatter differs from run to run, and the intake grows warmer.
        offset: degrees that the operator adds to the spark of the table.
        dyno: how it measures.

    Returns:
        A log at 25 Hz in canonical units; `wheel_torque` is that at the wheels divided by the gear.
    """
    dyno = dyno or Dyno()
    session = np.random.default_rng([seed, 501])
    chance = np.random.default_rng([seed, run, 502, *car.id.encode()])
    ambient, barometer = float(session.uniform(14, 26)), float(session.uniform(96.5, 101.0))
    ambient += dyno.soak * min(run - 1, 8)
    engine = Engine(car.truth, ambient, barometer)
    state = engine.state
    state.speed, state.coolant, state.intake_air, state.pressure = dyno.low, 90.0, ambient + 4.0, 95.0
    ethanol = car.ethanol(seed) if car.ethanol is not None else None
    controller = Controller(calibration, ethanol_percent=ethanol)
    listening = KnockControl(car.truth.knock, car.knock_sensor, np.random.default_rng([seed, run, 77]))
    sensor = Wideband(warm_after=0.0)
    whole = 1.0 + dyno.scatter * float(chance.normal())
    knots = np.linspace(dyno.low, dyno.high, _KNOTS)
    bent = 1.0 + dyno.shape * chance.normal(size=_KNOTS)
    steps = int((_SETTLE_S + (dyno.high - dyno.low) / dyno.sweep) / _STEP_S)
    noise = chance.normal(size=(steps, 4))
    sensed, rows = 1.0, []
    for number in range(steps):
        time = number * _STEP_S
        rolling = time - _SETTLE_S
        state.speed = dyno.low + max(rolling, 0.0) * dyno.sweep
        engine.breathe(100.0, 10.0, _STEP_S)
        frequency = car.meter(state.airflow) if car.meter is not None else 0.0
        command = controller.step(
            state.speed, state.pressure, 100.0, state.coolant, state.intake_air, state.airflow, sensed, _STEP_S,
            barometer, frequency,
        )  # fmt: skip
        engine.burn(command.fuel_flow, controller.stoichiometric, _STEP_S)
        sensed = sensor.step(time, state.mixture, state.airflow, _STEP_S) * (1.0 + 0.0035 * noise[number, 0])
        fired = listening.step(
            command.spark + offset, state.speed, state.pressure, state.mixture, state.intake_air, 100.0, 4, _STEP_S
        )
        torque = engine.torque(fired, float(noise[number, 1])) * DRIVELINE
        if rolling < 0.0:
            listening.retard = 0.0
        elif number % 2 == 0:
            measured = (
                torque * whole * float(np.interp(state.speed, knots, bent)) * (1.0 + dyno.grain * noise[number, 2])
            )
            rows.append(
                (
                    rolling,
                    state.speed,
                    measured,
                    measured * state.speed * 2 * math.pi / 60e3,
                    state.pressure - barometer + 0.25 * noise[number, 3],
                    barometer,
                    state.intake_air,
                    sensed,
                    fired,
                    listening.retard,
                    listening.level,
                    listening.limit,
                )
            )  # fmt: skip
    return _as_log(car, calibration, run, np.array(rows))


def _as_log(car: StandInCar, calibration: Calibration, run: int, data: FloatArray) -> Log:
    """A run's rows as the dyno writes them."""
    channels = tuple(
        Channel(name, QUANTITIES[quantity].unit, np.round(data[:, column + 1], decimals) + 0.0, quantity)
        for column, (name, quantity, decimals) in enumerate(_COLUMNS)
        if (car.knock_channels or quantity not in ("knock_level", "knock_limit"))
        and (car.wideband or quantity != "lambda_measured")
    )
    notes = MappingProxyType({"revision": calibration.id, "drive": "dyno run", "run": str(run)})
    return Log(f"run {run}.csv", (Raster(np.round(data[:, 0] - data[0, 0], 3), channels),), notes)


def torque_at(car: StandInCar, barometer: float, speed: float, pressure: float, air: float, spark: float) -> float:
    """What the dyno would measure without scatter at one point, Nm: speed rpm, pressures kPa, intake air degC, spark deg."""
    engine = Engine(car.truth, air, barometer)
    state = engine.state
    state.speed, state.coolant, state.intake_air, state.mixture, state.pressure = speed, 90.0, air, 0.85, pressure
    engine.fill()
    return engine.torque(spark) * DRIVELINE


def true_torque(car: StandInCar, log: Log) -> FloatArray:
    """What the dyno would have measured without scatter, Nm at each sample of a run."""
    told = {one: channel.values for one, channel in log.quantities.items()}
    pressure = told["boost_pressure"] + told["barometric_pressure"]
    columns = (
        told["barometric_pressure"],
        told["engine_speed"],
        pressure,
        told["intake_air_temperature"],
        told["spark_advance"],
    )
    return np.array([torque_at(car, *map(float, row)) for row in zip(*columns, strict=True)])


def write_run(log: Log, *, timed: bool = True) -> bytes:
    """A run as the dyno's own text file: semicolons, a row of units, without a time column if it is not `timed`."""
    raster = log.rasters[0]
    lines = [
        "Dyno run;" + log.notes.get("run", "1"),
        "",
        ";".join((["Time"] if timed else []) + [channel.name for channel in raster.channels]),
        ";".join((["s"] if timed else []) + [_written(channel.unit) for channel in raster.channels]),
    ]
    columns = ([raster.time] if timed else []) + [channel.values for channel in raster.channels]
    lines += [";".join(f"{value:g}" for value in row) for row in np.column_stack(columns)]
    return ("\r\n".join(lines) + "\r\n").encode()


def _written(unit: str) -> str:
    return {"degC": "°C", "deg": "°", "1": "-"}.get(unit, unit)
