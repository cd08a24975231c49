"""Spark against what is true of the stand-in cars: knock and noise, spark taken out, torque on the road, torque rounds.

`python -m bench.spark [seeds]` prints the tables for ten seeds of each car.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.judgement import Verdict, clusters
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import knock_proposal
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.proposal import TorqueProposal, torque_proposal
from uchiwa.core.pulls.curve import over_speed, speed_grid
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.road import RoadLoad
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.cars import CARS, StandInCar, calibrated
from uchiwa.standin.dyno import dyno_run, torque_at
from uchiwa.standin.knocking import KnockSensor
from uchiwa.standin.simulate import simulate

TABLE = "spark_main"
KNOCKING = {"corvid-pike": 9.0, "larkspur-tern": 11.0, "bramble-wren": 8.0}
_SLOPE = 0.02


def advanced(calibration: Calibration, degrees: float) -> Calibration:
    """A calibration with more spark in the upper half of the loads."""
    table = calibration.table(TABLE)
    grid = table.grid.copy()
    grid[table.shape[0] // 2 :] += degrees
    return calibration.with_table(table.with_grid(np.minimum(grid, 50.0)))


@dataclass(frozen=True)
class Judged:
    """Clusters of more than one event.

    Attributes:
        right: judged as they are; real knock that stays unsure counts too, for it is taken out.
        asked: noise of which nothing is said before a person has been asked.
        wrong: noise taken for knock, or knock for noise.
        dangerous: knock taken for noise.
        words: what was heard and judged.
    """

    right: int
    asked: int
    wrong: int
    dangerous: int
    words: str


def judge(car: StandInCar, seed: int, kind: str) -> Judged:
    """A roll-on that knocks, or sounds as if, with the same drive on six degrees less spark beside it."""
    sensor = {"snaps": KnockSensor(snap=0.8), "rattle": KnockSensor(rattle=3300.0)}.get(kind, KnockSensor())
    truth = Verdict.REAL if kind == "knock" else Verdict.NOISE
    fooled = replace(car, knock_channels=True, knock_sensor=sensor)
    base = calibrated(car)
    flashed = advanced(base, KNOCKING[car.id]) if kind == "knock" else base
    table = flashed.table(TABLE)
    knock = gather_knock([simulate(fooled, flashed, "roll_on", seed)], table)
    safer = gather_knock([simulate(fooled, advanced(base, -6.0), "roll_on", seed)], table)
    held = [cluster.verdict for cluster in clusters(knock, table, safer) if len(cluster.events) > 1]
    unsure = sum(one is Verdict.UNSURE for one in held)
    asked = 0 if kind == "knock" else unsure
    right = sum(one is truth for one in held) + unsure - asked
    wrong = len(held) - right - asked
    words = f"{len(knock.events)} events, {[one.value for one in held]}"
    return Judged(right, asked, wrong, wrong if kind == "knock" else 0, words)


@dataclass(frozen=True)
class TakenOut:
    """What a knock proposal did: events before and, in corrected cells, after; degrees below the true limit."""

    before: int
    after: int
    beyond: float


def take_out(car: StandInCar, seed: int) -> TakenOut:
    """A pull that knocks, the proposal, and the same pull again."""
    before = advanced(calibrated(car), KNOCKING[car.id])
    found = knock_proposal([simulate(car, before, "full_load_pull", seed)], before, TABLE, KnockPolicy())
    after = before.with_table(found.corrected)
    table = after.table(TABLE)
    left = gather_knock([simulate(car, after, "full_load_pull", seed)], table)
    corrected = found.after < found.table.grid
    beyond = []
    for event in found.knock.events:
        if found.asked[event.j, event.i] > 0:
            pressure = event.y * 98.5 if table.y is not None and table.y.quantity == "pressure_ratio" else event.y
            mixture = event.mixture if np.isfinite(event.mixture) else 0.9
            limit = car.truth.knock.limit(event.speed, pressure, mixture, event.intake_air)
            beyond.append(limit - float(table.lookup(np.array([event.x]), np.array([event.y]))[0]))
    return TakenOut(
        len(found.knock.events), sum(bool(corrected[event.j, event.i]) for event in left.events), float(np.mean(beyond))
    )


def road_error(car: StandInCar, seed: int) -> tuple[float, float]:
    """Torque of a road log over what a dyno would measure, as RMS and greatest error over the middle three fifths of a pull."""
    log = simulate(car, car.base(), "full_load_pull", seed, tell_torque=True)
    truth = log.quantities["wheel_torque"].values
    raster = log.rasters[0]
    own = tuple(channel for channel in raster.channels if channel.quantity != "wheel_torque")
    chassis = car.chassis
    load = RoadLoad(
        chassis.mass,
        chassis.drag_area,
        chassis.rolling,
        _SLOPE,
        engine_inertia=chassis.engine_inertia,
        wheel_inertia=0.0,
    )
    (pull,) = pulls_of(replace(log, rasters=(replace(raster, channels=own),)), load)
    first = int(np.searchsorted(raster.time, pull.start))
    low, high = np.quantile(pull.speed, [0.2, 0.8])
    grid = speed_grid(float(low), float(high))
    error = (
        over_speed(pull.speed, pull.torque, grid, 600.0)
        / over_speed(pull.speed, truth[first : first + pull.time.size], grid, 600.0)
        - 1.0
    )
    return float(np.sqrt(np.nanmean(error**2))), float(np.nanmax(np.abs(error)))


@dataclass(frozen=True)
class Rounds:
    """Three torque rounds on the dyno.

    Attributes:
        errors: degrees of the final spark above the lower of MBT and knock limit less margin, by full-load column.
        highest: degrees by which a revision stood above the true knock limit, at most, on the way.
        ladder: the same of the dyno's own runs.
        gains: of each round and column: whether the stated interval holds the true gain.
        knock_limited: whether knock, not torque, is what limits this car.
    """

    errors: tuple[float, ...]
    highest: float
    ladder: float
    gains: tuple[bool, ...]
    knock_limited: bool


def _hidden(car: StandInCar, rng: np.random.Generator) -> StandInCar:
    """The car with another fuel and another best spark than its calibration thinks."""
    truth = car.truth
    spark = replace(
        truth.spark, loss=float(rng.uniform(0.00045, 0.0008)), base=truth.spark.base + float(rng.uniform(-1, 3))
    )
    knock = replace(truth.knock, octane=float(rng.uniform(-13, -3)))
    return replace(car, truth=replace(truth, spark=spark, knock=knock))


def _points(car: StandInCar, log: Log, calibration: Calibration) -> list[tuple[int, float, float, float, float]]:
    """Column, load, true best spark, true knock limit and pressure of a full-load run at each breakpoint of speed."""
    _, told = on_one_base(log)
    table = calibration.table(TABLE)
    if table.y is None:
        raise TypeError("a spark table has two axes")
    found = []
    for column, speed in enumerate(table.x.breakpoints):
        if not 2000 <= speed <= 6000:
            continue
        at = {one: float(np.interp(speed, told["engine_speed"], values)) for one, values in told.items()}
        pressure, mixture = at["manifold_pressure"], at.get("lambda_measured", 0.9)
        limit = car.truth.knock.limit(float(speed), pressure, mixture, at["intake_air_temperature"])
        best = car.truth.spark.best(float(speed), pressure)
        found.append((column, at[table.y.quantity], best, limit, pressure))
    return found


def _at(calibration: Calibration, column: int, load: float) -> float:
    table = calibration.table(TABLE)
    return float(table.lookup(table.x.breakpoints[[column]], np.array([load]))[0])


def _started(
    calibration: Calibration, points: list[tuple[int, float, float, float, float]], low: float, margin: float
) -> Calibration:
    """A map known to be safe, some degrees low at full load."""
    table = calibration.table(TABLE)
    grid = table.grid.copy()
    shift = {
        column: min(best, limit - margin) - low - _at(calibration, column, load)
        for column, load, best, limit, _ in points
    }
    for i in range(table.shape[1]):
        grid[:, i] += shift[min(shift, key=lambda one: abs(one - i))]
    return calibration.with_table(table.with_grid(np.round(grid, 1)))


def torque_rounds(car: StandInCar, seed: int, rounds: int = 3) -> Rounds:
    """Three rounds of a session each: runs at the table's spark, at less, and up by half degrees until it knocks."""
    rng = np.random.default_rng([seed, 9, *car.id.encode()])
    car = _hidden(car, rng)
    policy = TorquePolicy()
    base = calibrated(car)
    points = _points(car, dyno_run(car, base, seed, 5), base)
    flashed = _started(base, points, float(rng.uniform(3.0, 4.5)), policy.knock_margin)
    logs: list[Log] = []
    highest, ladder, inside = -99.0, -99.0, []
    for number in range(rounds):
        stopped = False
        for offset in ((0, -3, -6, -9, 0) if number == 0 else (0, -4, -8, 0)) + (0.5, 1.0, 1.5, 2.0):
            if stopped:
                break
            log = dyno_run(car, flashed, seed, len(logs) + 1, offset=offset)
            logs.append(log)
            stopped = offset > 0 and float(log.quantities["knock_retard"].values.max()) > 0
            over = max(_at(flashed, point[0], point[1]) + offset - point[3] for point in _points(car, log, flashed))
            ladder = max(ladder, over)
        proposal = torque_proposal(logs, flashed, TABLE, policy)
        inside += _inside(car, proposal, logs[-1])
        flashed = flashed.with_table(proposal.corrected)
        highest = max(highest, *(_at(flashed, point[0], point[1]) - point[3] for point in points))
    last = _points(car, logs[-1], flashed)
    errors = tuple(_at(flashed, one[0], one[1]) - min(one[2], one[3] - policy.knock_margin) for one in last)
    limited = sum(one[3] - policy.knock_margin < one[2] for one in last) > len(last) / 2
    return Rounds(errors, highest, ladder, tuple(inside), limited)


def _inside(car: StandInCar, proposal: TorqueProposal, log: Log) -> list[bool]:
    """For each column with a gain: whether the truth lies in its interval."""
    barometer = float(log.quantities["barometric_pressure"].values[0])
    found = []
    for band, gain in enumerate(proposal.gains.bands):
        if not np.isfinite(gain.gain):
            continue
        pressure, air = (float(one) for one in proposal.bands.reference[band])
        more, less = (torque_at(car, barometer, gain.centre, pressure, air, gain.at + step) for step in (0.5, -0.5))
        found.append(gain.low <= more - less <= gain.high)
    return found


def _counted(judged: list[Judged]) -> str:
    right, asked, wrong = (sum(getattr(one, name) for one in judged) for name in ("right", "asked", "wrong"))
    return f"{right:4} right {asked:4} asked about {wrong:4} wrong"


def main(seeds: int = 10) -> None:
    """Print the tables."""
    every = range(1, seeds + 1)
    print("Knock or noise, judged by clusters of more than one event")
    every_one: list[Judged] = []
    for car in CARS.values():
        for kind in ("knock", "snaps", "rattle"):
            judged = [judge(car, seed, kind) for seed in every]
            every_one += judged
            print(f"  {car.id:14} {kind:7} {_counted(judged)}")
    print(f"  together {_counted(every_one)}, knock taken for noise {sum(one.dangerous for one in every_one)}")
    print("Spark taken out of knock: events before, events after in corrected cells, degrees below the true limit")
    beyond = []
    for car in CARS.values():
        told = [take_out(car, seed) for seed in every]
        beyond += [one.beyond for one in told]
        print(
            f"  {car.id:14} {np.mean([one.before for one in told]):5.1f}  after {[one.after for one in told]}"
            f"  {np.mean([one.beyond for one in told]):+.2f}°"
        )
    print(f"  {np.mean(beyond):+.2f}° on average")
    print("Torque of road logs over the middle of a pull")
    for car in CARS.values():
        told = [road_error(car, seed) for seed in every]
        print(
            f"  {car.id:14} RMS {100 * np.mean([one[0] for one in told]):.2f} %, at most {100 * max(one[1] for one in told):.2f} %"
        )
    print(
        "Three torque rounds: columns within 1° of the lower of MBT and knock limit − margin; highest above the limit"
    )
    for car in CARS.values():
        told = [torque_rounds(car, seed) for seed in every]
        errors = np.concatenate([one.errors for one in told])
        inside = np.concatenate([one.gains for one in told])
        print(
            f"  {car.id:14} {100 * np.mean(np.abs(errors) <= 1.0):3.0f} % of {errors.size} within 1°"
            f"  ({sum(one.knock_limited for one in told)} of {seeds} limited by knock)"
            f"  revisions {max(one.highest for one in told):+.2f}°, runs {max(one.ladder for one in told):+.2f}°"
            f"  gain in its interval {100 * inside.mean():.0f} % of {inside.size}"
        )


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10)
