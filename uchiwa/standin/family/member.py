"""One engine of the family: its truth, its calibration, and the logs of its drives."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.bins import figures, weighted_bins
from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.standin.family.loop import COLUMNS, METERED, run
from uchiwa.standin.family.physics import VARIANTS, Physics, Variant, drawn
from uchiwa.standin.family.recorder import recorded
from uchiwa.standin.family.road import STEP_S, Road, drive

_SPEEDS, _LOADS = (0.0, 50.0, 150), (8.0, 2.0, 122)
_WAVES = 50


@dataclass(frozen=True, eq=False)
class Member:
    """An engine of the family.

    Attributes:
        name: its variant's, with its number.
        variant: its kind.
        physics: drawn.
        calibration: what its controller runs, with the table under work.
        table: that table.
        factor: what each cell would have to be multiplied with, on average over the conditions of the logs: where the model
            errs beside its table, by heat and backpressure, that average belongs to it. Of the table's shape.
        logs: of its drives.
    """

    name: str
    variant: Variant
    physics: Physics
    calibration: Calibration
    table: Table
    factor: FloatArray
    logs: tuple[Log, ...]


def _waves(rng: np.random.Generator, along: float, across: float) -> FloatArray:
    """A smooth random surface of variance 1 over the fine grid of speed and pressure."""
    speeds = _SPEEDS[0] + _SPEEDS[1] * np.arange(_SPEEDS[2])
    loads = _LOADS[0] + _LOADS[1] * np.arange(_LOADS[2])
    drawn = np.array([(rng.normal(), rng.normal(), rng.uniform(0, 2 * np.pi)) for _ in range(_WAVES)])
    x = drawn[:, :1] / along * speeds + drawn[:, 2:]
    y = drawn[:, 1:2] / across * loads
    # cos(x + y), summed over the waves
    return np.asarray((np.cos(y).T @ np.cos(x) - np.sin(y).T @ np.sin(x)) * np.sqrt(2.0 / _WAVES))


def _breathing(rng: np.random.Generator, physics: Physics) -> FloatArray:
    """True volumetric efficiency, %, on the fine grid."""
    speeds = _SPEEDS[0] + _SPEEDS[1] * np.arange(_SPEEDS[2])
    loads = _LOADS[0] + _LOADS[1] * np.arange(_LOADS[2])
    hump = 28.0 * np.exp(-(((speeds - rng.uniform(3500, 5000)) / 3000.0) ** 2))
    filling = 1.0 - 0.3 * np.exp(-(loads - 8.0) / 42.0)
    return np.asarray((58.0 + hump)[None, :] * filling[:, None] * (1.0 + physics.bumps * _waves(rng, 1100.0, 28.0)))


def _read(fine: FloatArray, speed: FloatArray, load: FloatArray) -> FloatArray:
    """A fine grid read off at speeds and pressures of one shape."""
    at = np.clip((speed - _SPEEDS[0]) / _SPEEDS[1], 0, _SPEEDS[2] - 1.001)
    up = np.clip((load - _LOADS[0]) / _LOADS[1], 0, _LOADS[2] - 1.001)
    i, j = at.astype(int), up.astype(int)
    fx, fy = at - i, up - j
    low = fine[j, i] * (1 - fx) + fine[j, i + 1] * fx
    return np.asarray(low * (1 - fy) + (fine[j + 1, i] * (1 - fx) + fine[j + 1, i + 1] * fx) * fy)


def _fine_of(table: Table, barometer: float) -> FloatArray:
    """A table as its controller looks it up, on the fine grid."""
    speed, load = np.meshgrid(
        _SPEEDS[0] + _SPEEDS[1] * np.arange(_SPEEDS[2]), _LOADS[0] + _LOADS[1] * np.arange(_LOADS[2])
    )
    scaled = (
        load if "manifold_pressure" in (table.x.quantity, table.y.quantity if table.y else "") else load / barometer
    )
    pair = (speed.ravel(), scaled.ravel()) if table.x.quantity == "engine_speed" else (scaled.ravel(), speed.ravel())
    return table.lookup(*pair).reshape(speed.shape)


def _breakpoints(rng: np.random.Generator, low: float, high: float, size: int) -> FloatArray:
    steps = rng.uniform(0.7, 1.3, size - 1) * np.linspace(0.8, 1.2, size - 1)
    points: FloatArray = low + (high - low) * np.concatenate(([0.0], np.cumsum(steps))) / steps.sum()
    return points


def member(number: int, minutes: float = 25.0, variant: Variant | None = None) -> Member:
    """The member of a number; kinds come in turn.

    Args:
        number: draws everything.
        minutes: of driving, over all of its logs.
        variant: another kind than its turn.
    """
    kind = variant if variant is not None else VARIANTS[number % len(VARIANTS)]
    rng = np.random.default_rng([number, 4242])
    physics = drawn(kind, rng)
    barometer = float(rng.uniform(93, 102))
    full = float(rng.choice([barometer - 2.0, 150.0, 190.0]))
    truth = _breathing(rng, physics)
    believed = truth * (1.0 + physics.miss * _waves(rng, 1400.0, 38.0) + float(rng.normal(0, 0.02)))
    it = _Drawn(number, kind, physics, rng, truth, full, barometer, minutes)
    if kind.physics.meter:
        return _metered(it)
    ratio = bool(rng.random() < 0.4)
    speeds = Axis("engine_speed", "rpm", frozen(np.round(_breakpoints(rng, 650, 6600, int(rng.integers(11, 16))), -1)))
    points = _breakpoints(rng, 22, max(full, barometer) + 8, int(rng.integers(10, 14)))
    loads = (
        Axis("pressure_ratio", "1", frozen(np.round(points / 100.0, 3)))
        if ratio
        else Axis("manifold_pressure", "kPa", frozen(np.round(points, 0)))
    )
    turned = bool(rng.random() < 0.4)
    x, y = (loads, speeds) if turned else (speeds, loads)
    at_speed, at_load = np.meshgrid(speeds.breakpoints, loads.breakpoints * (barometer if ratio else 1.0))
    values = np.round(_read(believed, at_speed, at_load), 2)
    right = _read(truth, at_speed, at_load)
    table = Table(
        "under_work", "Volumetric efficiency", "volumetric_efficiency", "%", x, y,
        frozen(values.T if turned else values), 0.0, 200.0, 2,
    )  # fmt: skip
    calibration = Calibration(
        f"family-{number}", kind.name,
        (Constant("displacement", "displacement", 2.0, "L"), Constant("cylinders", "cylinders", 4.0, "1")), (table,),
    )  # fmt: skip
    driven = _logs(it, _fine_of(table, barometer))
    factor = (right / values).T if turned else right / values
    return Member(
        f"{kind.name} {number}", kind, physics, calibration, table, factor * _unknown(table, driven), driven.logs
    )  # fmt: skip


def _unknown(table: Table, driven: _Logs) -> FloatArray:
    """What the model errs by beside its table in each cell, on average; 1 where the engine never was.

    Of the samples nearest to the cell, or of those whose lookup makes use of it where none is: it was looked up all the same.
    """
    warm = (driven.signals["coolant_temperature"] >= 80.0) & (driven.signals["overrun_cut_active"] < 0.5)
    x, y = (driven.signals[axis.quantity][warm] for axis in (table.x, table.y or table.x))
    along = None if table.y is None else y
    mean = figures(table.x, table.y, x, along, driven.unknown[warm]).mean
    shared = weighted_bins(table, x, along, driven.unknown[warm]).mean
    mean = np.where(np.isfinite(mean), mean, shared)
    return np.where(np.isfinite(mean), mean, 1.0)


@dataclass(frozen=True, eq=False)
class _Drawn:
    """A member as chance has drawn it, before its controller.

    Attributes:
        truth: volumetric efficiency, %, on the fine grid.
        full: pressure at wide-open throttle, kPa.
        barometer: kPa.
        minutes: that are driven.
    """

    number: int
    kind: Variant
    physics: Physics
    rng: np.random.Generator
    truth: FloatArray
    full: float
    barometer: float
    minutes: float


@dataclass(frozen=True, eq=False)
class _Meter:
    """An airflow meter: its signal by airflow, and what its curve makes of the flows `METERED`, as a factor."""

    signal: Callable[[FloatArray], FloatArray]
    told: FloatArray


def _metered(drawn: _Drawn) -> Member:
    """A member whose controller goes by an airflow meter: its curve is what is wrong."""
    number, kind, physics, rng = drawn.number, drawn.kind, drawn.physics, drawn.rng
    power = float(rng.uniform(0.44, 0.54))

    def signal(flow: FloatArray) -> FloatArray:
        return np.asarray(1100.0 + 600.0 * np.maximum(flow, 0.0) ** power)

    points = np.round(_breakpoints(rng, 1300, float(signal(np.array(190.0))), 20), -1)
    right = np.maximum((points - 1100.0) / 600.0, 0.0) ** (1.0 / power)
    bend = 1.0 + 0.05 * np.sin(points / float(rng.uniform(900, 1500)) + rng.uniform(0, 6)) + float(rng.normal(0, 0.02))
    curve = Table(
        "under_work", "Airflow meter", "maf_curve", "g/s", Axis("airflow_frequency", "Hz", frozen(points)), None,
        frozen(np.round(right * bend, 3)), 0.0, 600.0, 3,
    )  # fmt: skip
    calibration = Calibration(f"family-{number}", kind.name, (), (curve,))
    told = curve.lookup(signal(METERED)) / METERED
    driven = _logs(drawn, drawn.truth, _Meter(signal, told))
    return Member(
        f"{kind.name} {number}", kind, physics, calibration, curve, (right / curve.values)[None, :], driven.logs
    )  # fmt: skip


@dataclass(frozen=True, eq=False)
class _Logs:
    """The logs, every signal before it was recorded, and what the model erred by beside its table."""

    logs: tuple[Log, ...]
    signals: dict[str, FloatArray]
    unknown: FloatArray


def _logs(drawn: _Drawn, model: FloatArray, meter: _Meter | None = None) -> _Logs:
    physics, rng, barometer, recorder = drawn.physics, drawn.rng, drawn.barometer, drawn.kind.recorder
    rates = [recorder.rate] + [recorder.second_rate] * (recorder.second_rate > 0)
    logs, every, unknown = [], [], []
    for part, rate in enumerate(rates):
        road = drive(rng, drawn.minutes / len(rates), drawn.full, barometer)
        lift = 1.0 + physics.apart * (1.0 if part == 0 else -1.0)
        ambient = float(rng.uniform(8, 28))
        data = _driven(drawn, road, model, (ambient, lift), meter)
        signals = _signals(drawn, road, data, meter)
        logs.append(recorded(f"{drawn.number}-{part}.csv", signals, recorder, rate, rng))
        every.append(signals | {"pressure_ratio": signals["manifold_pressure"] / barometer})
        unknown.append(data[:, COLUMNS.index("unknown")])
    joined = {one: np.concatenate([signals[one] for signals in every]) for one in every[0]}
    return _Logs(tuple(logs), joined, np.concatenate(unknown))


def _driven(drawn: _Drawn, road: Road, model: FloatArray, day: tuple[float, float], meter: _Meter | None) -> FloatArray:
    physics, rng, (ambient, lift) = drawn.physics, drawn.rng, day
    return np.asarray(
        run(
            road.speed, road.pressure, road.throttle, road.cut, road.coolant, rng.normal(size=(road.speed.size, 3)), drawn.truth,
            np.ascontiguousarray(model), _SPEEDS[0], _SPEEDS[1], _LOADS[0], _LOADS[1], drawn.barometer, ambient,
            np.array(physics.film), np.array(physics.film_s), physics.film_by_speed, physics.film_by_flow,
            physics.made_up, physics.delay_s, physics.delay_g, physics.delay_turns, np.array(physics.lags_s),
            physics.dead_band, physics.charge, physics.backpressure, physics.closed, physics.gain, physics.reset_s,
            physics.learns_s, physics.zones, physics.banks, lift, np.zeros(0) if meter is None else meter.told, STEP_S,
        )
    )  # fmt: skip


def _signals(drawn: _Drawn, road: Road, data: FloatArray, meter: _Meter | None) -> dict[str, FloatArray]:
    """What the sensors and the controller report, every 0.02 s, in canonical units."""
    physics, rng = drawn.physics, drawn.rng
    column = {name: data[:, at] for at, name in enumerate(COLUMNS)}
    size = column["speed"].size
    level = np.where(
        column["speed"] < 1100, physics.noise[0], np.where(road.throttle > 80, physics.noise[2], physics.noise[1])
    )
    found = {
        "engine_speed": np.round(column["speed"] + 3 * rng.normal(size=size)),
        "manifold_pressure": np.round(column["pressure"] + physics.pressure_noise * rng.normal(size=size), 2),
        "barometric_pressure": np.full(size, round(drawn.barometer, 1)),
        "throttle_position": np.round(road.throttle, 1),
        "vehicle_speed": np.where(road.moving, column["speed"] / 45.0, 0.0),
        "coolant_temperature": np.round(road.coolant),
        "intake_air_temperature": np.round(column["charge"]),
        "short_term_trim": column["short"] * 100.0,
        "long_term_trim": column["long"] * 100.0,
        "loop_state": column["closed"],
        "overrun_cut_active": road.cut.astype(np.float64),
    }
    if meter is not None:
        found["airflow_frequency"] = np.round(meter.signal(column["airflow"]) + 5 * rng.normal(size=size))
        found["airflow"] = np.round(column["airflow"], 2)
    steps = physics.quantum * 100.0 if not physics.wideband else 0.0
    for trim in ("short_term_trim", "long_term_trim"):
        found[trim] = np.round(found[trim] / steps) * steps if steps else np.round(found[trim], 2)
    if physics.wideband:
        found["lambda_target"] = np.round(column["target"], 3)
        banks = {"lambda_measured": column["mixture"]} | (
            {"lambda_measured_2": column["mixture_2"]} if physics.banks else {}
        )
        for name, values in banks.items():
            noisy = values * (1.0 + level * rng.normal(size=size))
            found[name] = np.round(noisy / physics.quantum) * physics.quantum if physics.quantum else noisy
    return found


def as_log(name: str, time: FloatArray, signals: dict[str, FloatArray]) -> Log:
    """Signals on one time base as a recognised log."""
    return Log(name, (raster(time, signals),))


def raster(time: FloatArray, signals: dict[str, FloatArray]) -> Raster:
    """Signals on one time base."""
    return Raster(time, tuple(Channel(one, QUANTITIES[one].unit, values, one) for one, values in signals.items()))
