"""Engines drawn at random that are started cold and idle until they are warm: what they need of air and fuel is hidden."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from uchiwa.core.logs.log import FloatArray, Log
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.standin.family.member import raster

STEP_S = 0.04
_CRANKED_S = 2.0
_TORQUE = 17.0
"""Nm of each gram of air in a cycle."""


@dataclass(frozen=True)
class IdlePhysics:
    """What is true of an idling engine, its controller and its recorder, and hidden from the calibration.

    Attributes:
        friction: Nm when warm.
        cold_friction: how much more of it at 0 °C, as a share.
        friction_by: law by which it falls: *exp*, *line* or *viscosity*.
        gear_load: Nm that an automatic gearbox takes in gear; 0 for a clutch.
        accessories: Nm that come and go: fan, alternator.
        actuator: air that comes for each gram asked for.
        integral: g/s in a second for each rpm that the speed is off; 0 for a controller without.
        spark_gain: degrees for each rpm.
        cold_fuel: how much more fuel it needs at 0 °C, as a share.
        cold_fuel_by: law by which that falls: *exp*, *line* or *hump*.
        air_off: how far the airflow model is off, as a share.
        after_start: how much more fuel it gets at first, as a share.
        after_start_s: how long that takes to go.
        closed_from: coolant from which the loop is closed, degC.
        sensor_warm_s: until the mixture sensor works.
        sensor_cold: what it reads until then.
        coolant_lag_s: of the sensor.
        coolant_step: in which coolant is logged, K.
        rate: samples a second.
        noise_rpm: of the speed.
        says_not: channels that its logger leaves out.
        own_only: whether the logged desired airflow is the table's own, without what the control adds.
    """

    friction: float = 16.0
    cold_friction: float = 1.1
    friction_by: str = "exp"
    gear_load: float = 0.0
    accessories: float = 1.0
    actuator: float = 1.0
    integral: float = 0.004
    spark_gain: float = 0.05
    cold_fuel: float = 0.30
    cold_fuel_by: str = "exp"
    air_off: float = 0.0
    after_start: float = 0.25
    after_start_s: float = 14.0
    closed_from: float = 55.0
    sensor_warm_s: float = 12.0
    sensor_cold: float = 1.4
    coolant_lag_s: float = 2.0
    coolant_step: float = 1.0
    rate: float = 10.0
    noise_rpm: float = 6.0
    says_not: tuple[str, ...] = ()
    own_only: bool = False


_PLAIN = IdlePhysics()

KINDS: tuple[tuple[str, IdlePhysics], ...] = (
    ("plain", _PLAIN),
    ("automatic", replace(_PLAIN, gear_load=9.0)),
    ("no target speed, viscosity", replace(_PLAIN, friction_by="viscosity", says_not=("target_idle_speed",))),
    ("no flag, long after-start", replace(_PLAIN, after_start_s=35.0, says_not=("after_start_active",))),
    ("by the meter", replace(_PLAIN, says_not=("idle_airflow_target",), noise_rpm=12.0)),
    ("coarse and slow", replace(_PLAIN, coolant_step=2.0, coolant_lag_s=8.0, rate=4.0, friction_by="line")),
    ("fans and lights", replace(_PLAIN, accessories=4.0, noise_rpm=15.0)),
    ("hump in the fuel", replace(_PLAIN, cold_fuel_by="hump", closed_from=200.0, says_not=("vehicle_speed",))),
    ("airflow model off", replace(_PLAIN, air_off=0.06, cold_fuel_by="line", sensor_cold=1.0)),
    ("table's own is logged", replace(_PLAIN, own_only=True, actuator=1.0)),
)
"""Kinds of engines; no estimator assumes any of them."""


@dataclass(frozen=True, eq=False)
class IdleMember:
    """An engine that is started cold.

    Attributes:
        name: its kind's, with its number.
        physics: drawn.
        calibration: what its controller runs: `idle_air`, `warm_up`, `cold_target` and a λ target.
        logs: of its cold starts, the second with the calibration's same tables.
        needed_air: of `idle_air`'s shape, g/s as the controller asks for it.
        needed_fuel: at `warm_up`'s temperatures, %.
        automatic: whether its gearbox pulls in gear.
    """

    name: str
    physics: IdlePhysics
    calibration: Calibration
    logs: tuple[Log, ...]
    needed_air: FloatArray
    needed_fuel: FloatArray
    automatic: bool


def target_speed(coolant: FloatArray) -> FloatArray:
    """The speed that the controller wants at idle, rpm."""
    return 850.0 + 5.5 * np.clip(70.0 - coolant, 0.0, 90.0)


def friction(physics: IdlePhysics, coolant: FloatArray) -> FloatArray:
    """Nm at a coolant temperature."""
    if physics.friction_by == "line":
        more = np.clip((80.0 - coolant) / 80.0, 0.0, 1.6)
    elif physics.friction_by == "viscosity":
        more = np.exp(550.0 / (coolant + 95.0) - 550.0 / 95.0) / 1.0 - math.exp(550.0 / 175.0 - 550.0 / 95.0)
        more = np.maximum(more, 0.0)
    else:
        more = np.exp(-coolant / 32.0) - math.exp(-90.0 / 32.0)
    return np.asarray(physics.friction * (1.0 + physics.cold_friction * np.maximum(more, 0.0)))


def needed_fuel(physics: IdlePhysics, coolant: FloatArray) -> FloatArray:
    """How much fuel it takes for the mixture that is wanted, as a factor; 1 when warm."""
    if physics.cold_fuel_by == "line":
        more = np.clip((75.0 - coolant) / 75.0, 0.0, 1.5)
    elif physics.cold_fuel_by == "hump":
        more = np.exp(-coolant / 25.0) + 0.25 * np.exp(-(((coolant - 38.0) / 12.0) ** 2))
        more = np.where(coolant >= 80.0, 0.0, more - math.exp(-80.0 / 25.0))
    else:
        more = np.exp(-coolant / 27.0) - math.exp(-80.0 / 27.0)
    return np.asarray(1.0 + physics.cold_fuel * np.maximum(more, 0.0))


def needed_air(physics: IdlePhysics, coolant: FloatArray, *, in_gear: bool) -> FloatArray:
    """Air that holds the target speed at the usual spark, as the controller asks for it, g/s; mean of the accessories."""
    speed = target_speed(coolant)
    load = friction(physics, coolant) + physics.accessories / 2.0 + (physics.gear_load if in_gear else 0.0)
    return np.asarray(load / _TORQUE * speed / 120.0 / physics.actuator * _CYCLES)


_CYCLES = 0.34
"""Grams of air in a cycle that one step of `_TORQUE` stands for, so that a warm engine takes some 2.5 g/s."""


def drawn(physics: IdlePhysics, rng: np.random.Generator) -> IdlePhysics:
    """A kind with its numbers drawn about those it is named for."""

    def about(value: float, spread: float = 0.2) -> float:
        return float(value * math.exp(rng.normal(0, spread)))

    return replace(
        physics,
        friction=about(physics.friction, 0.15),
        cold_friction=about(physics.cold_friction),
        gear_load=about(physics.gear_load),
        accessories=about(physics.accessories),
        actuator=about(physics.actuator, 0.05),
        integral=about(physics.integral, 0.4),
        spark_gain=about(physics.spark_gain, 0.3),
        cold_fuel=about(physics.cold_fuel),
        after_start=about(physics.after_start),
        after_start_s=about(physics.after_start_s),
        sensor_warm_s=about(physics.sensor_warm_s),
    )


def idle_member(number: int, starts: int = 2) -> IdleMember:
    """The member of a number; kinds come in turn.

    Args:
        number: draws everything.
        starts: cold starts that are recorded.
    """
    name, kind = KINDS[number % len(KINDS)]
    rng = np.random.default_rng([number, 911])
    physics = drawn(kind, rng)
    points = frozen([-20.0, -5.0, 10.0, 20.0, 30.0, 40.0, 50.0, 60.0, 70.0, 80.0, 95.0])
    axis = Axis("coolant_temperature", "degC", points)
    automatic = physics.gear_load > 0
    rows = [needed_air(physics, points, in_gear=gear) for gear in ((False, True) if automatic else (False,))]
    needed: FloatArray = np.array(rows, dtype=np.float64)
    bend = 1.0 + rng.normal(0, 0.08) + rng.normal(0, 0.10) * (80.0 - points) / 80.0
    believed: FloatArray = np.minimum.accumulate(np.round(needed * bend, 2), axis=1)
    air = Table(
        "idle_air", "Idle airflow", "idle_airflow", "g/s", axis,
        Axis("in_gear", "1", frozen([0.0, 1.0])) if automatic else None,
        frozen(believed if automatic else believed[0]), 0.0, 40.0, 2,
    )  # fmt: skip
    fuel = needed_fuel(physics, points) * 100.0
    guess = 100.0 + (fuel - 100.0) * (1.0 + rng.normal(0, 0.35)) + rng.normal(0, 3.0) * (points < 70.0)
    guess = np.where(points >= 80.0, 100.0, np.maximum(np.minimum.accumulate(guess), 100.0))
    warm = Table(
        "warm_up",
        "Warm-up factor",
        "warmup_factor",
        "%",
        axis,
        None,
        frozen(np.round(guess, 1).astype(np.float64)),
        100.0,
        250.0,
        1,
    )
    offset = Table(
        "cold_target", "Cold λ target", "cold_lambda_offset", "1", axis, None,
        frozen((-0.06 * np.clip((60.0 - points) / 60.0, 0.0, 1.0)).round(3).astype(np.float64)), -0.3, 0.0, 3,
    )  # fmt: skip
    target = Table(
        "lambda_target", "λ target", "lambda_target", "1",
        Axis("engine_speed", "rpm", frozen([500.0, 6000.0])), Axis("manifold_pressure", "kPa", frozen([20.0, 100.0])),
        frozen([[1.0, 1.0], [1.0, 1.0]]), 0.6, 1.3, 3,
    )  # fmt: skip
    calibration = Calibration(
        f"idle-{number}", name,
        (Constant("displacement", "displacement", 2.0, "L"), Constant("cylinders", "cylinders", 4.0, "1")),
        (air, warm, offset, target),
    )  # fmt: skip
    logs = tuple(cold_start(physics, calibration, f"{number}-{one}.csv", rng) for one in range(starts))
    return IdleMember(f"{name} {number}", physics, calibration, logs, needed, fuel, automatic)


def cold_start(
    physics: IdlePhysics, calibration: Calibration, name: str, rng: np.random.Generator, from_degc: float | None = None
) -> Log:
    """From before cranking until warm, feet off; an automatic is held in gear every other minute.

    Args:
        physics: of the engine.
        calibration: that its controller runs.
        name: of the log.
        rng: of weather, accessories and noise.
        from_degc: coolant at the start; drawn by default.
    """
    begun = float(rng.uniform(4, 24)) if from_degc is None else from_degc
    size = int(720.0 / STEP_S)
    time: FloatArray = STEP_S * np.arange(size, dtype=np.float64)
    warming = float(rng.uniform(190, 260))
    coolant = 91.0 - (91.0 - begun) * np.exp(-np.maximum(time - _CRANKED_S, 0.0) / warming)
    sensed: FloatArray = np.interp(time - physics.coolant_lag_s, time, coolant)
    pulls = (physics.gear_load > 0) & (time > 60.0) & ((time // 60.0) % 2 == 1)
    loads = physics.accessories * (rng.random(size // 500 + 2)[np.arange(size) // 500] > 0.5)
    start = _Start(
        time,
        np.asarray(coolant, dtype=np.float64),
        sensed,
        pulls.astype(np.float64),
        np.asarray(loads, dtype=np.float64),
    )
    state = _idle(physics, calibration, start, rng) | _fuel(physics, calibration, start)
    signals = _told(physics, start, state, rng)
    every = max(1, round(1.0 / physics.rate / STEP_S))
    kept = {one: values[::every] for one, values in signals.items() if one not in physics.says_not}
    return Log(name, (raster(time[::every], kept),))


@dataclass(frozen=True, eq=False)
class _Start:
    """A cold start's course; arrays of shape (n,): s, degC as it is and as the sensor tells it, in gear, Nm of accessories."""

    time: FloatArray
    coolant: FloatArray
    sensed: FloatArray
    gear: FloatArray
    loads: FloatArray


def _idle(
    physics: IdlePhysics,
    calibration: Calibration,
    start: _Start,
    rng: np.random.Generator,
) -> dict[str, FloatArray]:
    """Speed and air, step by step: torque of the air against friction, gearbox and accessories."""
    time, coolant, sensed, gear = start.time, start.coolant, start.sensed, start.gear
    table = calibration.table("idle_air")
    asked = table.lookup(sensed, gear if table.y is not None else None)
    target = target_speed(sensed)
    resist = friction(physics, coolant) + start.loads + physics.gear_load * gear
    speed, integral, air = 0.0, 0.0, 0.0
    found = {one: np.zeros(time.size) for one in ("speed", "desired", "air", "spark", "integral")}
    wander = 0.0
    for at in range(time.size):
        wander += (-wander / 0.8 + float(rng.normal()) * 1.2) * STEP_S
        if time[at] < _CRANKED_S:
            speed = 0.0 if time[at] < 1.0 else 210.0
            air = asked[at] * physics.actuator
        else:
            if time[at] < _CRANKED_S + 1.5:
                speed = max(speed, 700.0)
            off = target[at] - speed
            integral = min(max(integral + physics.integral * off * STEP_S, -4.0), 4.0)
            spark = min(max(15.0 + physics.spark_gain * off, 5.0), 25.0)
            air += ((asked[at] + integral) * physics.actuator - air) * STEP_S / 0.25
            torque = air / _CYCLES * 120.0 / max(speed, 300.0) * _TORQUE * (1.0 + 0.012 * (spark - 15.0))
            moved = (torque - resist[at] * (0.6 + 0.4 * speed / target[at])) / 0.2 * STEP_S * 9.55
            speed = max(speed + moved + wander, 0.0)
            found["spark"][at] = spark
        found["speed"][at], found["air"][at], found["integral"][at] = speed, air, integral
        found["desired"][at] = asked[at] + (0.0 if physics.own_only else integral)
    found["target"] = target
    return found


def _fuel(physics: IdlePhysics, calibration: Calibration, start: _Start) -> dict[str, FloatArray]:
    """The mixture while it warms: what is needed against what the factor and after-start give, and trims once closed."""
    time, coolant, sensed = start.time, start.coolant, start.sensed
    factor = calibration.table("warm_up").lookup(sensed) / 100.0
    target = 1.0 + calibration.table("cold_target").lookup(sensed)
    since = np.maximum(time - _CRANKED_S, 0.0)
    extra = physics.after_start * np.maximum(1.0 - since / physics.after_start_s, 0.0)
    error = needed_fuel(physics, coolant) * (1.0 + physics.air_off) / (factor * (1.0 + extra))
    mixture, short, long, loop = (np.zeros(time.size) for _ in range(4))
    trim, integral, learned, seen = 0.0, 0.0, 0.0, 1.0
    for at in range(time.size):
        closed = sensed[at] > physics.closed_from and since[at] > 40.0
        seen += (target[at] * error[at] / ((1.0 + trim) * (1.0 + learned)) - seen) * STEP_S / 0.4
        if closed:
            wrong = seen / target[at] - 1.0
            integral = min(max(integral + 0.3 * wrong * STEP_S, -0.25), 0.25)
            learned += integral * STEP_S / 25.0
            integral -= integral * STEP_S / 25.0
            trim = integral + 0.1 * wrong
        else:
            integral = trim = 0.0
        mixture[at], short[at], long[at], loop[at] = seen, trim, learned, float(closed)
    return {"mixture": mixture, "target_mixture": target, "short": short, "long": long, "loop": loop,
            "after_start": ((since < physics.after_start_s) & (time >= _CRANKED_S)).astype(np.float64)}  # fmt: skip


def _told(
    physics: IdlePhysics, start: _Start, state: dict[str, FloatArray], rng: np.random.Generator
) -> dict[str, FloatArray]:
    """What the logger writes."""
    time, sensed = start.time, start.sensed
    size = time.size
    cold_sensor = time < _CRANKED_S + physics.sensor_warm_s
    measured = np.where(cold_sensor, physics.sensor_cold, state["mixture"] * (1 + 0.006 * rng.normal(size=size)))
    turning = state["speed"] > 0
    pressure = 100.0 - 66.0 * np.clip(state["speed"] / 700.0, 0.0, 1.0) * turning
    signals: dict[str, Any] = {
        "engine_speed": np.round(np.maximum(state["speed"] + physics.noise_rpm * rng.normal(size=size) * turning, 0.0)),
        "target_idle_speed": np.round(state["target"]),
        "idle_airflow_target": np.round(state["desired"], 2),
        "airflow": np.round(state["air"] * (1 + 0.01 * rng.normal(size=size)), 2),
        "coolant_temperature": np.round(sensed / physics.coolant_step) * physics.coolant_step,
        "throttle_position": np.round(np.abs(0.4 + 0.1 * rng.normal(size=size)), 1),
        "vehicle_speed": np.zeros(size),
        "manifold_pressure": np.round(pressure, 1),
        "intake_air_temperature": np.round(20.0 + 0.1 * sensed),
        "lambda_measured": np.round(measured, 3),
        "lambda_target": np.round(state["target_mixture"], 3),
        "short_term_trim": np.round(state["short"] * 100.0, 2),
        "long_term_trim": np.round(state["long"] * 100.0, 2),
        "loop_state": state["loop"],
        "spark_advance": np.round(state["spark"], 1),
        "after_start_active": state["after_start"],
    }
    if physics.gear_load > 0:
        signals["in_gear"] = start.gear
    return {one: np.asarray(values, dtype=np.float64) for one, values in signals.items()}
