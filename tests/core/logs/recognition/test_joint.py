"""Channels of one log judged together, worked by hand on drives whose truth is known."""

from __future__ import annotations

import numpy as np
import pytest

from uchiwa.core.logs.recognition.joint import Candidate, ReadingWay, judge
from uchiwa.core.logs.recognition.plausible_units import Drive
from uchiwa.core.logs.recognition.ways import canonical, same_unit, ways_of

SIZE = 900
AT = np.arange(SIZE)
IDLE = AT < 300
SPEED = np.where(IDLE, 850.0, 1500 + 2500 * np.abs(np.sin(AT / 70)))
LOADED = ~IDLE & (np.sin(AT / 70) > 0.8)
DRIVE = Drive(600.0, IDLE, LOADED, np.zeros(SIZE, dtype=bool), SPEED, 2.0)
PRESSURE = np.where(IDLE, 34.0, np.where(LOADED, 98.0, 55.0)) + 2 * np.sin(AT / 11)
COOLANT = 88 + 2 * np.sin(AT / 90)
INTAKE = 31 + 3 * np.sin(AT / 120)


def channel(quantity, values, unit, *, stated=True, gauge=None, **more):
    said = {"by_name": False, "equivalence": False, "petrol": True} | more
    ways = ways_of(quantity, unit, gauge, stated=stated, **said)
    return Candidate(
        quantity, stated, tuple(ways), tuple(canonical(values, quantity, way, 14.7, 99.0) for way, _ in ways)
    )


def test_a_label_that_fits_is_taken_without_a_doubt():
    coolant, intake, pressure = judge(
        [
            channel("coolant_temperature", COOLANT, "°C"),
            channel("intake_air_temperature", INTAKE, "°C"),
            channel("manifold_pressure", PRESSURE, "kPa"),
        ],
        DRIVE,
    )
    assert [one.way.unit for one in (coolant, intake, pressure)] == ["°C", "°C", "kPa"]
    assert not any(one.close or one.odd for one in (coolant, intake, pressure))
    assert not pressure.way.gauge


def test_a_logger_that_shows_one_temperature_in_fahrenheit_shows_the_other_so():
    fahrenheit = 32 + 1.8 * INTAKE
    coolant, intake = judge(
        [
            channel("coolant_temperature", 32 + 1.8 * COOLANT, "°F"),
            channel("intake_air_temperature", fahrenheit, "°C", stated=False),
        ],
        DRIVE,
    )
    assert coolant.way.unit == "°F"
    assert intake.way.unit == "°F"


def test_a_gauge_that_is_labelled_absolute_is_overruled_with_its_label_second():
    (told,) = judge([channel("manifold_pressure", PRESSURE - 99.0, "kPa", gauge=False)], DRIVE)
    assert told.way == ReadingWay("kPa", True)


def test_trims_as_factors_are_told_from_percent():
    rng = np.random.default_rng(2)
    short, long = 1 + rng.normal(0, 0.02, SIZE), np.full(SIZE, 1.03)
    told = judge(
        [channel("short_term_trim", short, "%", stated=False), channel("long_term_trim", long, "%", stated=False)],
        DRIVE,
    )
    assert {one.way.unit for one in told} == {"factor"}


def test_airflow_is_judged_against_what_the_engine_can_breathe():
    flow = SPEED * 2.0 * 1.19 / 120.0 * 0.9 * PRESSURE / 99.0
    for unit, per in (("g/s", 1.0), ("kg/h", 3.6)):
        told = judge(
            [
                channel("manifold_pressure", PRESSURE, "kPa"),
                channel("airflow", flow * per, "g/s", stated=False),
            ],
            DRIVE,
        )
        assert told[1].way.unit == unit


def test_what_cannot_be_told_is_close_with_the_other_beside():
    """Intake air at 60: heat-soaked in Celsius, a mild day in Fahrenheit."""
    (told,) = judge([channel("intake_air_temperature", 60 + INTAKE / 20, "°C", stated=False)], DRIVE)
    assert told.close
    assert told.second is not None
    assert {told.way.unit, told.second.unit} == {"°C", "°F"}


def test_a_warm_engine_settles_what_its_label_leaves_open():
    """Coolant at 68 after ten minutes' driving: 20 °C it cannot be."""
    (told,) = judge([channel("coolant_temperature", np.full(SIZE, 68.0), "°C", stated=False)], DRIVE)
    assert (told.way.unit, told.close) == ("°C", False)


@pytest.mark.parametrize(("one", "other", "same"), [
    ("degC", "°C", True), ("F", "°F", True), ("hPa", "mbar", True), ("kPa", "psi", False), ("K", "kelvin", True),
])  # fmt: skip
def test_units_are_the_same_however_they_are_written(one, other, same):
    assert same_unit(one, other) is same
