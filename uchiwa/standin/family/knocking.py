"""Knock of the family: controllers that snap or creep, retard of either sign, and what only sounds like knock."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.spark_quantities import KNOCK_BY_CYLINDER
from uchiwa.core.tables.table import Axis, Table, frozen
from uchiwa.standin.family.road import STEP_S, drive

_RETARD_HZ = 50.0
_ALIKE_S = 0.6


@dataclass(frozen=True, eq=False)
class KnockSession:
    """A drive with knock and with noise.

    Attributes:
        table: of spark, laid either way.
        log: of the drive; retard on its own, quicker base.
        safer: the same with seven degrees less spark, where only the noise is left.
        real, noise: moments of true knock, and of what only sounds like it, s.
        seen: degrees that each moment of true knock took out.
        told: how retard is logged: of `all` cylinders together, by `cylinder`, or with what is `learned` beside it.
        learned: degrees that the controller has learned to hold back at each sample of the slow channels; else None.
    """

    table: Table
    log: Log
    safer: Log
    real: tuple[float, ...]
    noise: tuple[float, ...]
    seen: tuple[float, ...]
    told: str = "all"
    learned: FloatArray | None = None


def spark_table(rng: np.random.Generator) -> Table:
    """A spark table with uneven breakpoints, laid either way."""
    speeds = Axis("engine_speed", "rpm", frozen(np.round(np.linspace(700, 6600, int(rng.integers(9, 15))), -1)))
    loads = Axis("manifold_pressure", "kPa", frozen(np.round(np.linspace(22, 195, int(rng.integers(8, 13))))))
    at_speed, at_load = np.meshgrid(speeds.breakpoints, loads.breakpoints)
    grid = np.round(34.0 - 0.13 * (at_load - 30.0) + at_speed / 450.0, 1)
    turned = bool(rng.random() < 0.5)
    x, y, values = (loads, speeds, grid.T) if turned else (speeds, loads, grid)
    return Table("spark", "Spark", "spark_advance", "deg", x, y, frozen(values), -20.0, 60.0, 1)


def _raised(retard: FloatArray, at: float, degrees: float, kind: str) -> None:
    """Retard of one moment: a snap that is given back, a creep up and down, or a single sample."""
    first = int(at * _RETARD_HZ)
    if kind == "single":
        retard[first] = max(retard[first], degrees)
        return
    up = 1 if kind == "snap" else int(0.5 * _RETARD_HZ)
    down = int(0.8 * _RETARD_HZ)
    shape = np.concatenate([np.linspace(0, degrees, up + 1)[1:], np.linspace(degrees, 0, down)])
    last = min(first + shape.size, retard.size)
    retard[first:last] = np.maximum(retard[first:last], shape[: last - first])


def session(number: int, minutes: float = 8.0) -> KnockSession:
    """The session of a number: knock at load above a limit that nobody knows, and noise elsewhere."""
    rng = np.random.default_rng([number, 911])
    table = spark_table(rng)
    road = drive(rng, minutes, 180.0, 99.0)
    time: FloatArray = np.arange(road.speed.size, dtype=np.float64) * STEP_S
    speed: FloatArray = np.convolve(road.speed, np.ones(15) / 15, mode="same").astype(np.float64)
    pressure: FloatArray = np.convolve(road.pressure, np.ones(9) / 9, mode="same").astype(np.float64)
    retard = np.zeros(int(time[-1] * _RETARD_HZ))
    kind = str(rng.choice(["snap", "creep", "single"]))
    knocking = np.flatnonzero((pressure > float(rng.uniform(110, 150))) & (speed > 2200))
    real: list[float] = []
    seen: list[float] = []
    for at in np.sort(rng.choice(knocking, size=min(8, knocking.size), replace=False)) if knocking.size else []:
        moment = float(time[at])
        if not real or moment - real[-1] > 2.0:
            degrees = float(rng.uniform(0.8, 6))
            _raised(retard, moment, degrees, kind)
            real.append(moment)
            seen.append(degrees)
    quiet = np.flatnonzero((pressure < 80) & (pressure > 35) & (speed > 1300) & (road.throttle > 5))
    heard = np.zeros(retard.size)
    noise: list[float] = []
    for at in rng.permutation(quiet)[:400]:
        moment = float(time[at])
        apart = all(abs(moment - one) > 3.0 for one in (*noise, *real))
        elsewhere = all(abs(speed[at] - np.interp(one, time, speed)) > 900 for one in noise)
        if apart and elsewhere:
            _raised(heard, moment, float(rng.uniform(0.5, 1.4)), "snap")
            noise.append(moment)
    sign = -1.0 if rng.random() < 0.4 else 1.0
    spark = table.lookup(*((pressure, speed) if table.x.quantity == "manifold_pressure" else (speed, pressure)))
    log = _log(time, speed, pressure, road.throttle, spark, sign * np.maximum(retard, heard), rng)
    safer = _log(time, speed, pressure, road.throttle, spark - 7.0, sign * heard, rng)
    told = str(rng.choice(["all", "all", "cylinder", "learned"]))
    if told == "cylinder":
        own = int(rng.integers(0, 4))
        log, safer = (_by_cylinder(one, own, rng) for one in (log, safer))
    if told != "learned":
        return KnockSession(table, log, safer, tuple(real), tuple(noise), tuple(seen), told)
    degrees, limit = float(np.round(rng.uniform(0.8, 4.0), 1)), float(rng.uniform(110, 150))
    log, held = _with_learned(log, degrees, limit, sign)
    safer, _ = _with_learned(safer, degrees, limit, sign)
    return KnockSession(table, log, safer, tuple(real), tuple(noise), tuple(seen), told, held)


def _by_cylinder(log: Log, own: int, rng: np.random.Generator) -> Log:
    """Each knock on one of four cylinders, mostly the same; every cylinder's retard is a channel of its own."""
    slow, quick = log.rasters
    (whole,) = quick.channels
    begun = np.flatnonzero((np.abs(whole.values) > 0) & (np.abs(np.append(0.0, whole.values[:-1])) == 0))
    which = np.where(rng.random(begun.size) < 0.8, own, rng.integers(0, 4, begun.size))
    belongs = np.searchsorted(begun, np.arange(whole.values.size), side="right") - 1
    each = tuple(
        Channel(
            f"KR Cyl {number + 1}", "deg", np.where((belongs >= 0) & (which[np.maximum(belongs, 0)] == number), whole.values, 0.0),
            KNOCK_BY_CYLINDER[number],
        )
        for number in range(4)
    ) if begun.size else (whole,)  # fmt: skip
    return Log(log.name, (slow, Raster(quick.time, each)))


def _with_learned(log: Log, degrees: float, limit: float, sign: float) -> tuple[Log, FloatArray]:
    """What the controller holds back of its own at load, whatever the spark; told on the slow base."""
    slow, quick = log.rasters
    read = {one.quantity: one.values for one in slow.channels}
    held = np.where((read["manifold_pressure"] > limit) & (read["engine_speed"] > 2000.0), degrees, 0.0)
    channel = Channel("Learned knock retard", "deg", sign * held, "learned_knock_retard")
    return Log(log.name, (Raster(slow.time, (*slow.channels, channel)), quick)), held


def _log(
    time: FloatArray,
    speed: FloatArray,
    pressure: FloatArray,
    throttle: FloatArray,
    spark: FloatArray,
    retard: FloatArray,
    rng: np.random.Generator,
) -> Log:
    """Speed, pressure, throttle and spark at 5 to 20 Hz, retard at 50 Hz."""
    step = int(rng.choice([3, 5, 10]))
    slow = {"engine_speed": speed, "manifold_pressure": pressure, "throttle_position": throttle, "spark_advance": spark}
    channels = tuple(Channel(one, QUANTITIES[one].unit, values[::step], one) for one, values in slow.items())
    quick = Raster(np.arange(retard.size) / _RETARD_HZ, (Channel("KR", "deg", retard, "knock_retard"),))
    return Log("drive", (Raster(time[::step], channels), quick))


def close(moment: float, moments: tuple[float, ...]) -> bool:
    """Whether a moment is one of some."""
    return any(-0.1 <= moment - one <= _ALIKE_S for one in moments)
