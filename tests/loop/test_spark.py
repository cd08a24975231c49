"""Spark against what is true of the stand-in cars, on fewer seeds than `python -m bench.spark`, which prints the tables."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from bench.spark import advanced, judge, road_error, take_out, torque_rounds
from tests.seeds import seeds
from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.logs.readers import read_log
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.proposal import threshold_proposal
from uchiwa.core.pulls.curve import raggedness
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.tables.table import Axis, Table, frozen
from uchiwa.standin.cars import CARS, calibrated
from uchiwa.standin.dyno import dyno_run, true_torque, write_run
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate

pytestmark = pytest.mark.loop
PIKE = car_named("corvid-pike")


@pytest.mark.parametrize("name", CARS)
def test_the_cars_own_calibrations_do_not_knock(name):
    car = car_named(name)
    assert simulate(car, car.base(), "full_load_pull", 1).quantities["knock_retard"].values.max() == 0.0


def test_real_knock_and_noise_are_told_apart_or_asked_about():
    told = {
        (name, kind): judge(car_named(name), seed, kind)
        for name, seed in (("corvid-pike", 1), ("bramble-wren", 2), ("larkspur-tern", 3))
        for kind in ("knock", "snaps", "rattle")
    }
    said = "\n".join(f"  {name:14} {kind:7} {one.words}" for (name, kind), one in told.items())
    assert sum(one.dangerous for one in told.values()) == 0, said
    assert all(one.right >= 1 for (_, kind), one in told.items() if kind == "knock"), said
    assert sum(one.wrong for one in told.values()) <= 0.15 * sum(one.right + one.asked for one in told.values()), said


def test_after_the_proposal_the_same_drive_does_not_knock_and_little_too_much_is_taken():
    told = [take_out(car, seed) for car in CARS.values() for seed in (1, 2)]
    print("\n", [(one.before, one.after, round(one.beyond, 2)) for one in told])
    assert all(one.before >= 3 for one in told)
    assert np.median([one.after for one in told]) == 0
    assert 0.0 < np.mean([one.beyond for one in told]) <= 2.0


@pytest.mark.parametrize("name", CARS)
def test_torque_of_a_road_log_is_that_at_the_wheels(name):
    rms, _ = road_error(car_named(name), 2)
    assert rms < 0.03


@pytest.mark.parametrize("name", CARS)
def test_four_torque_rounds_come_to_the_lower_of_best_torque_and_knock(name):
    told = [torque_rounds(car_named(name), seed, rounds=4) for seed in (1, 4)[: seeds(1, 2)]]
    errors = np.concatenate([one.errors for one in told])
    print("\n", np.round(errors, 1), [(round(one.highest, 2), round(one.ladder, 2)) for one in told])
    assert np.mean(np.abs(errors) <= 1.0) >= 0.8
    assert max(one.highest for one in told) <= 0.5
    assert np.mean(np.concatenate([one.gains for one in told])) >= 0.9


def test_the_dyno_scatters_about_the_truth_and_its_file_reads_back():
    log = dyno_run(PIKE, PIKE.base(), 3, 2, offset=-2.0)
    measured, truth = log.quantities["wheel_torque"].values, true_torque(PIKE, log)
    assert np.median(measured / truth) == pytest.approx(1.0, abs=0.012)
    again = dyno_run(PIKE, PIKE.base(), 3, 2, offset=-2.0)
    assert (again.quantities["wheel_torque"].values == measured).all()
    for timed in (True, False):
        (pull,) = pulls_of(read_log(write_run(log, timed=timed), "run.csv"))
        assert pull.torque == pytest.approx(measured, abs=0.06)
        assert pull.factor == pytest.approx(1.0, abs=0.05)


def test_too_little_spark_makes_boost_and_burns_unevenly():
    base, late = PIKE.base(), advanced(PIKE.base(), -14.0)
    normal, retarded = dyno_run(PIKE, base, 5), dyno_run(PIKE, late, 5)
    top = slice(-40, None)
    assert (
        retarded.quantities["boost_pressure"].values[top].mean()
        > normal.quantities["boost_pressure"].values[top].mean() + 2.0
    )
    ragged = [raggedness(pulls_of(one)[0].torque) for one in (normal, retarded)]
    assert ragged[1] > 2.0 * ragged[0]


def test_a_limit_from_safe_runs_flags_no_noise_and_still_hears_knock():
    car = replace(PIKE, knock_channels=True)
    safe = [dyno_run(car, advanced(calibrated(car), -6.0), 7, run) for run in (1, 2)]
    loud = dyno_run(car, advanced(calibrated(car), 11.0), 7, 3)
    assert gather_knock([loud], calibrated(car).table("spark_main")).events
    axis = Axis("engine_speed", "rpm", frozen([2000.0, 3000.0, 4000.0, 5000.0, 6000.0]))
    table = Table("limit", "Knock limit", "knock_limit", "V", axis, None, frozen([0.5, 0.6, 0.8, 1.0, 1.2]), 0, 10, 2)
    calibration = replace(calibrated(car), tables=(*calibrated(car).tables, table))
    found = threshold_proposal(safe, calibration, "limit", ThresholdPolicy(), [loud])
    assert found.safe.now > found.safe.then
    assert found.safe.then <= 1
    assert found.caught.events >= 3
    assert found.caught.then >= 0.5 * found.caught.events
