"""Knock told from noise, and spark taken out of it, against what is true of the stand-in cars."""

from __future__ import annotations

import io
from dataclasses import replace

import numpy as np
import pytest

from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.judgement import Verdict, clusters
from uchiwa.core.proposals.knock import KnockPolicy, knock_proposal
from uchiwa.core.table import Calibration
from uchiwa.standin.cars import StandInCar, car_named
from uchiwa.standin.knocking import KnockSensor
from uchiwa.standin.simulate import simulate

pytestmark = pytest.mark.loop
PIKE, WREN = car_named("corvid-pike"), car_named("bramble-wren")
NOISES = {"snaps": KnockSensor(snap=0.8), "a rattle": KnockSensor(rattle=3300.0)}


def advanced(car: StandInCar, degrees: float, base: Calibration | None = None):
    """The car's calibration with more spark in the upper half of the loads than it can bear."""
    base = base or car.base()
    table = base.table("spark_main")
    grid = table.grid.copy()
    grid[table.shape[0] // 2 :] += degrees
    return base.with_table(table.with_grid(np.minimum(grid, 50.0)))


@pytest.mark.parametrize("car", [PIKE, WREN], ids=["pike", "wren"])
def test_the_cars_own_calibrations_do_not_knock(car):
    for drive in ("full_load_pull", "roll_on"):
        for seed in (1, 2, 3):
            assert simulate(car, car.base(), drive, seed).quantities["knock_retard"].values.max() == 0.0


def test_real_knock_and_noise_are_told_apart():
    out, right, wrong = io.StringIO(), 0, 0
    for seed in range(1, 6):
        for words, sensor, calibration, truth in (
            ("knock", KnockSensor(), advanced(PIKE, 9.0), Verdict.REAL),
            *((words, sensor, PIKE.base(), Verdict.NOISE) for words, sensor in NOISES.items()),
        ):
            car = replace(PIKE, knock_channels=True, knock_sensor=sensor)
            log = simulate(car, calibration, "roll_on", seed)
            table = calibration.table("spark_main")
            knock = gather_knock([log], table)
            safer = gather_knock([simulate(car, advanced(PIKE, -6.0), "roll_on", seed)], table)
            found = [one for one in clusters(knock, table, safer) if len(one.events) > 1]
            held = [one.verdict for one in found]
            right += sum(one is truth or (truth is Verdict.REAL and one is Verdict.UNSURE) for one in held)
            wrong += sum(one is not truth and not (truth is Verdict.REAL and one is Verdict.UNSURE) for one in held)
            print(f"  {words:9} seed {seed}: {len(knock.events)} events, {[one.value for one in held]}", file=out)
    print("\n" + out.getvalue() + f"  {right} clusters right, {wrong} wrong")
    assert right >= 9 * wrong, out.getvalue()


def test_after_the_proposal_the_same_drive_does_not_knock_and_little_too_much_is_taken():
    out, again, taken = io.StringIO(), [], []
    for car in (PIKE, WREN):
        for seed in range(1, 6):
            before = advanced(car, 9.0 if car is PIKE else 8.0)
            log = simulate(car, before, "full_load_pull", seed)
            found = knock_proposal([log], before, "spark_main", KnockPolicy())
            if not found.knock.events:
                continue
            after = before.with_table(found.corrected)
            second = simulate(car, after, "full_load_pull", seed)
            left = gather_knock([second], after.table("spark_main"))
            table = after.table("spark_main")
            beyond = []
            for one in found.knock.events:
                if found.asked[one.j, one.i] > 0:
                    pressure = one.load * 98.5 if table.y.quantity == "pressure_ratio" else one.load
                    limit = car.truth.knock.limit(one.speed, pressure, one.mixture, one.intake_air)
                    beyond.append(limit - float(table.lookup(np.array([one.speed]), np.array([one.load]))[0]))
            corrected = found.after < found.table.grid
            again.append(sum(bool(corrected[one.j, one.i]) for one in left.events))
            taken.append(float(np.mean(beyond)))
            print(
                f"  {car.id} seed {seed}: {len(found.knock.events)} events before, {again[-1]} after in corrected cells, {len(left.events)} in all; "
                f"{np.mean(beyond):+.1f}° below the true limit", file=out,
            )  # fmt: skip
    print("\n" + out.getvalue())
    assert len(again) >= 6
    assert np.median(again) == 0, out.getvalue()
    assert float(np.mean(taken)) <= 2.6, out.getvalue()
