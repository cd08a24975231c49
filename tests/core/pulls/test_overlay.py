"""Pulls laid over each other, and what runs say of clean spark and of knock."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from tests.conftest import make_log
from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.known import JudgedKnock, heard_in
from uchiwa.core.logs.readers.by_speed import measures_torque, rises_by_speed
from uchiwa.core.proposals.torque.proposal import comparable
from uchiwa.core.pulls.overlay import PullView, compare, overlay
from uchiwa.core.pulls.recognised import from_dyno, pulls_of
from uchiwa.core.pulls.repeat import Repeatability
from uchiwa.core.pulls.runs import bands_of
from uchiwa.standin.cars import pike_base

SPARK = pike_base().table("spark_main")
SURE = Repeatability(0.002, 10.0, (), assumed=False)


def run(torque=200.0, *, low=2000.0, high=6000.0, **changes):
    speed = np.linspace(low, high, 320)
    signals = {
        "engine_speed": speed,
        "wheel_torque": torque + 0 * speed,
        "spark_advance": 20.0,
        "manifold_pressure": 165.0,
        "barometric_pressure": 95.0,
        "intake_air_temperature": 35.0,
        "knock_retard": 0.0,
    }
    return make_log(25, **{one: value for one, value in (signals | changes).items() if value is not None})


def pulls(*logs):
    return [pulls_of(log)[0] for log in logs]


def test_torque_and_power_are_corrected_and_nothing_else_is():
    found = pulls(run())
    plain, corrected = (overlay(found, PullView(corrected=one)) for one in (False, True))
    assert corrected.factors[0] == pytest.approx(1.0701, abs=1e-3)
    middle = plain.speeds.size // 2
    assert plain.curves["wheel_torque"][0, middle] == pytest.approx(200.0)
    assert corrected.curves["wheel_torque"][0, middle] == pytest.approx(214.0, abs=0.2)
    assert corrected.curves["boost_pressure"][0, middle] == plain.curves["boost_pressure"][0, middle]
    assert plain.curves["boost_pressure"][0, middle] == pytest.approx(70.0)
    power = plain.curves["wheel_power"][0, middle]
    assert power == pytest.approx(200.0 * plain.speeds[middle] * 2 * math.pi / 60e3, rel=1e-3)


def test_what_a_pull_did_not_record_or_run_is_left_open():
    drawn = overlay(pulls(run(), run(low=3000.0, knock_retard=None)), PullView())
    assert np.isnan(drawn.curves["wheel_torque"][1][drawn.speeds < 2900]).all()
    assert np.isnan(drawn.curves["knock_retard"][1]).all()
    assert "lambda_measured" not in drawn.curves
    nothing = overlay([], PullView())
    assert nothing.curves == {}


def test_spark_is_never_smoothed():
    spark = np.where(np.arange(320) < 160, 20.0, 26.0)
    drawn = overlay(pulls(run(spark_advance=spark)), PullView(window=1000.0))
    steps = np.abs(np.diff(drawn.curves["spark_advance"][0]))
    assert (steps > 1e-9).sum() <= 2
    assert np.nansum(steps) == pytest.approx(6.0)


def test_a_difference_beyond_chance_is_told_and_one_within_is_not():
    found = pulls(run(200.0), run(200.5), run(206.0), run(190.0, low=4500.0))
    view = PullView(corrected=False)
    told = compare(found, overlay(found, view), SURE, 3000.0, 5500.0)
    assert [one.reference for one in told] == [True, False, False, False]
    assert told[1].difference == pytest.approx(0.5)
    assert [one.told for one in told[:3]] == [False, False, True]
    assert math.isnan(told[3].mean)
    assert told[0].chance == pytest.approx(SURE.interval() * 200.0)


def test_pulls_of_another_kind_are_not_held_against_each_other():
    speed = np.linspace(2000, 6000, 320)
    road = make_log(
        25, engine_speed=speed, vehicle_speed=speed / 40.0, throttle_position=100.0, gear=4.0,
        spark_advance=20.0, knock_retard=0.0,
    )  # fmt: skip
    from uchiwa.core.pulls.road import RoadLoad

    on_road = pulls_of(road, RoadLoad(1200.0))[0]
    assert on_road.measured == "road, gear 4"
    found = [on_road, *pulls(run(200.0), run(205.0))]
    told = compare(found, overlay(found, PullView()), SURE, 3000.0, 5500.0)
    assert [one.reference for one in told] == [False, True, False]
    assert [one.alike for one in told] == [False, True, True]
    assert not told[0].told
    assert comparable(found) == tuple(found[1:])
    assert not from_dyno(road)


@pytest.mark.parametrize("wrong", [{"window": -1}, {"slope_percent": 40}, {"low": -5}, {"colour": "red"}])
def test_a_view_has_bounds(wrong):
    with pytest.raises(ValidationError):
        PullView(**wrong)


def test_clean_and_knocked_spark_of_a_column():
    retard = np.zeros(320)
    retard[160:180] = np.linspace(2.0, 0.2, 20)
    clean, knocked = run(spark_advance=21.0), run(spark_advance=22.0 - retard, knock_retard=retard)
    knock = gather_knock([clean, knocked], SPARK)
    found = pulls(clean, knocked)
    bands = bands_of(found, SPARK.x.breakpoints)
    column = int(SPARK.x.nearest(np.array([4000.0]))[0])
    present = float(SPARK.lookup(np.array([4000.0]), np.array([165.0]))[0])
    low, lowest, listened = heard_in(column, list(enumerate(found)), bands, JudgedKnock(knock.events), (SPARK, present))
    assert listened
    assert low == pytest.approx(21.0)
    assert lowest == pytest.approx(22.0, abs=0.1)
    elsewhere = heard_in(column + 2, list(enumerate(found)), bands, JudgedKnock(knock.events), (SPARK, present))
    assert elsewhere[0] == pytest.approx(22.0, abs=0.1)
    assert math.isnan(elsewhere[1])
    deaf = pulls(run(knock_retard=None))
    told = heard_in(
        column, list(enumerate(deaf)), bands_of(deaf, SPARK.x.breakpoints), JudgedKnock([]), (SPARK, present)
    )
    assert not told[2]


@given(st.integers(8, 60), st.floats(1000, 3000), st.integers(1, 4))
def test_a_table_by_speed_is_known_by_its_rising_rows(rows, low, runs):
    speed = np.tile(np.linspace(low, low + 3000, rows), runs)
    assert rises_by_speed(["RPM", "Torque"], [speed, speed]) is (runs == 1 or rows >= 8)
    assert not rises_by_speed(["RPM"], [speed[::-1]])
    assert not rises_by_speed(["Torque"], [speed])


def test_what_counts_as_a_dynos_columns():
    assert measures_torque(["x", "Power"])
    assert not measures_torque(["RPM", "Lambda"])
    assert not rises_by_speed(["RPM"], [np.full(40, 3000.0)])
