"""Idle, cruise and full load, told from whatever a log holds."""

from __future__ import annotations

import numpy as np
import pytest

from uchiwa.core.evidence.regions import Region, full_load, idling, opening, regions

IDLE, CRUISE, LOAD = Region.IDLE, Region.CRUISE, Region.LOAD
PLACES = {IDLE: (850.0, 1.0, 32.0, 0.0), CRUISE: (2400.0, 14.0, 55.0, 80.0), LOAD: (4200.0, 98.0, 99.0, 120.0)}
TRUE = np.repeat([IDLE, CRUISE, LOAD], 60)
SPEED, THROTTLE, PRESSURE, ROAD = (np.array([PLACES[Region(one)][k] for one in TRUE]) for k in range(4))
# 2 L at 4200 rpm, filled to 0.95 at load, in proportion to its pressure elsewhere.
AIRFLOW = SPEED * 2.0 * 1.19 / 120.0 * 0.95 * PRESSURE / 99.0


def test_all_of_it_together():
    signals = {
        "engine_speed": SPEED,
        "throttle_position": THROTTLE,
        "manifold_pressure": PRESSURE,
        "vehicle_speed": ROAD,
    }
    assert (regions(signals) == TRUE).all()


@pytest.mark.parametrize(("quantity", "values", "displacement"), [
    ("throttle_position", THROTTLE, None),
    ("throttle_position", THROTTLE / 100.0, None),  # a share
    ("throttle_position", 0.5 + THROTTLE * 0.04, None),  # volts
    ("pedal_position", THROTTLE, None),
    ("manifold_pressure", PRESSURE, None),
    ("pressure_ratio", PRESSURE / 100.0, None),
    ("boost_pressure", PRESSURE - 100.0, None),
    ("airflow", AIRFLOW, 2.0),
    ("airflow", AIRFLOW, None),
    ("engine_load", PRESSURE, None),
    ("engine_load", PRESSURE / 100.0, None),
    ("cylinder_air", PRESSURE * 5e-3, None),
])  # fmt: skip
def test_any_one_channel_shows_full_load(quantity, values, displacement):
    found = full_load({"engine_speed": SPEED, quantity: values}, displacement)
    assert (found == (TRUE == LOAD)).all()


def test_pressure_counts_against_the_barometer_of_the_day():
    signals = {"engine_speed": SPEED, "manifold_pressure": np.where(TRUE == LOAD, 72.0, 50.0)}
    assert not full_load(signals).any()
    assert (full_load(signals | {"barometric_pressure": np.full(SPEED.shape, 78.0)}) == (TRUE == LOAD)).all()


def test_nothing_that_shows_load_is_no_load():
    assert not full_load({"engine_speed": SPEED}).any()
    assert not full_load({"engine_speed": SPEED, "throttle_position": np.full(SPEED.shape, np.nan)}).any()


def test_a_snap_of_the_throttle_at_idle_speed_is_no_full_load():
    assert not full_load({"engine_speed": np.full(50, 900.0), "throttle_position": np.full(50, 100.0)}).any()


def test_rolling_slowly_with_the_throttle_shut_is_not_idling_if_the_road_speed_is_known():
    rolling = {"engine_speed": np.full(4, 1000.0), "throttle_position": np.array([0.0, 0.0, 0.0, 30.0])}
    assert idling(rolling).tolist() == [True, True, True, False]
    assert not idling(rolling | {"vehicle_speed": np.full(4, 12.0)}).any()


def test_an_opening_is_told_by_its_range():
    assert opening(np.array([0.0, 50.0, 100.0])) == pytest.approx([0.0, 0.5, 1.0])
    assert opening(np.array([0.02, 0.5, 1.0])) == pytest.approx([0.02, 0.5, 1.0])
    volts = np.linspace(0.5, 4.5, 401)
    assert opening(volts)[[0, 200, 400]] == pytest.approx([0.0, 0.5, 1.0], abs=0.01)
    assert np.isnan(opening(np.full(3, np.nan))).all()
