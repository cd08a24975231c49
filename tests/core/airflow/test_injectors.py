"""Injectors: dead time by voltage, flow by pressure, and the air that fuel tells with them."""

from __future__ import annotations

import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from uchiwa.core.airflow.crosscheck import BY_FUEL, air_of
from uchiwa.core.airflow.injectors import dead_time_at, flow_factor
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED
from uchiwa.core.review.duty import expected_duty
from uchiwa.core.tables.table import Calibration, Constant

POINTS = ((8.0, 2.6), (10.0, 1.7), (12.0, 1.1), (14.0, 0.8), (16.0, 0.6))
CAR = CarFile(displacement=2.0, cylinders=4, injector_flow=5.0, injector_dead_time=0.8)
EMPTY = Calibration("c", "C", (), (make_table([[50.0] * 3, [50.0] * 3]),))


def test_dead_times_by_hand():
    assert dead_time_at(POINTS, np.array([13.0, 8.0, 5.0, 20.0])) == pytest.approx([0.95, 2.6, 2.6, 0.6])
    assert dead_time_at(((14.0, 0.8),), np.array([10.0])) == pytest.approx([0.8])
    assert dead_time_at(POINTS[::-1], np.array([11.0])) == pytest.approx([1.4])


def test_flow_follows_the_root_of_the_pressure_across():
    assert flow_factor(np.array([300.0, 1200.0, 75.0]), 300.0) == pytest.approx([1.0, 2.0, 0.5])
    assert np.isnan(flow_factor(np.array([0.0, -5.0]), 300.0)).all()


@given(st.floats(4.0, 60.0), st.floats(4.0, 60.0))
def test_a_higher_voltage_never_opens_later(one, other):
    low, high = sorted((one, other))
    assert dead_time_at(POINTS, np.array([high]))[0] <= dead_time_at(POINTS, np.array([low]))[0] + 1e-12


@pytest.mark.parametrize(
    ("points", "said"),
    [
        ([[10, 1.0], [12, 1.2]], "grows"),
        ([[10, 1.0], [10, 0.9]], "twice"),
        ([[10, 1.0, 3.0]], "tuple"),
        ([[2, 1.0]], "4"),
    ],
)
def test_dead_times_that_no_injector_has_are_refused(points, said):
    with pytest.raises(BadInput, match=said):
        CarFile.read({"dead_times": points})


def driven(air, volts, pressure, rail, *, gain=True, size=400):
    """A log of an engine whose injectors open later at low voltage, and deliver by the pressure across them."""
    speed = np.full(size, 2400.0)
    across = rail + 100.0 - pressure
    flow = 5.0 * (np.sqrt(across / 300.0) if gain else 1.0)
    # One injection each two turns: 20 a second at 2400 rpm, four injectors.
    open_ms = air / 14.7 / (4 * flow) * 1000.0 / 20.0
    return make_log(
        engine_speed=speed, manifold_pressure=pressure, barometric_pressure=100.0, intake_air_temperature=25.0,
        coolant_temperature=90.0, throttle_position=12.0, lambda_measured=1.0, battery_voltage=volts,
        injector_pulse=open_ms + np.interp(volts, *np.array(POINTS).T),
    )  # fmt: skip


@pytest.mark.parametrize("seed", range(5))
def test_air_by_fuel_is_right_at_any_voltage_and_pressure(seed):
    rng = np.random.default_rng([seed, 71])
    air, volts = rng.uniform(4, 60, 400), rng.uniform(9.0, 15.0, 400)
    pressure, rail = rng.uniform(25, 200, 400), float(rng.uniform(280, 450))
    log = driven(air, volts, pressure, rail)
    knows = CAR.model_copy(update={"dead_times": POINTS, "injector_pressure": 300.0, "rail_pressure": rail})
    assert air_of(log, EMPTY, knows).air[BY_FUEL] == pytest.approx(air, rel=1e-9)
    assert np.abs(air_of(log, EMPTY, CAR).air[BY_FUEL] / air - 1).max() > 0.1
    # A regulator that follows the intake keeps the pressure: then only the voltage matters.
    follows = CAR.model_copy(update={"dead_times": POINTS, "injector_pressure": 300.0})
    assert air_of(driven(air, volts, pressure, rail, gain=False), EMPTY, follows).air[BY_FUEL] == pytest.approx(
        air, rel=1e-9
    )


def test_a_recorded_fuel_pressure_goes_before_the_stated_one():
    base = {
        "engine_speed": np.full(50, 2400.0), "manifold_pressure": 100.0, "barometric_pressure": 100.0, "injector_pulse": 6.0,
        "lambda_measured": 1.0, "lambda_target": 1.0,
    }  # fmt: skip
    car = CAR.model_copy(update={"injector_pressure": 300.0, "rail_pressure": 300.0})
    stated = air_of(make_log(**base), EMPTY, car).air[BY_FUEL][0]
    measured = air_of(make_log(**base, fuel_pressure=147.0), EMPTY, car).air[BY_FUEL][0]
    assert stated == pytest.approx(14.7 * 5.0 * 4 * 5.2 / 1000 * 20)
    assert measured == pytest.approx(stated * 0.7)
    assert {"battery_voltage", "fuel_pressure"} <= set(SHIPPED.needs("fuel_based_air"))


def test_expected_duty_takes_the_dead_time_at_its_voltage():
    lean = EMPTY.with_table(EMPTY.tables[0].with_grid(EMPTY.tables[0].grid * 2.0))
    base = Calibration("c", "C", (Constant("d", "injector_dead_time", 0.8, "ms"),), EMPTY.tables)
    signals = {
        "engine_speed": np.full(5, 3000.0), "manifold_pressure": np.full(5, 60.0), "injector_pulse": np.full(5, 5.0),
        "battery_voltage": np.full(5, 10.0),
    }  # fmt: skip
    # (1.7 + 3.3·2)·3000/1200, and with the calibration's own dead time (0.8 + 4.2·2)·2.5
    car = CarFile.read({"dead_times": [list(point) for point in POINTS]})
    assert expected_duty(signals, base, lean, car).expected == pytest.approx(20.75)
    assert expected_duty(signals, base, lean).expected == pytest.approx(23.0)


def test_a_car_file_with_dead_times_is_read_back():
    car = CAR.model_copy(update={"dead_times": POINTS, "rail_pressure": 350.0})
    assert CarFile.loads(json.dumps(car.model_dump(mode="json"))) == car
