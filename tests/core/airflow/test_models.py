"""Airflow models side by side, temporary setups, and tables held as polynomials."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from uchiwa.core.airflow.crosscheck import BY_FUEL, METER, SPEED_DENSITY, air_of, cross_check, largest_gap
from uchiwa.core.cars.temporary_setups import (
    PREPARED,
    Setup,
    SetupSetting,
    as_data,
    from_data,
    put_back,
    read_wishes,
    switch,
)
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen
from uchiwa.core.tables.zones import Zone, powers, refit, zone_surface

CONSTANTS = tuple(
    Constant(name, name, value, unit)
    for name, value, unit in (
        ("displacement", 2.0, "L"), ("cylinders", 4, "1"), ("injector_flow", 5.0, "g/s"), ("injector_dead_time", 0.8, "ms"),
        ("overrun_cut_enabled", 1.0, "1"), ("closed_loop_enabled", 1.0, "1"),
    )
)  # fmt: skip
CURVE = Table(
    "maf", "Meter", "maf_curve", "g/s", Axis("airflow_voltage", "V", frozen([1.0, 2.0, 3.0, 4.0])), None,
    frozen([2.0, 12.0, 40.0, 110.0]), decimals=3,
)  # fmt: skip
CALIBRATION = Calibration("c", "C", CONSTANTS, (make_table([[50.0] * 3, [50.0] * 3]), CURVE))


def driven(meter_factor=1.0, ve=50.0, size=600):
    """A log whose fuel and speed density agree at `ve` %, and whose meter reads `meter_factor` of that."""
    speed = np.linspace(1000, 3000, size)
    pressure = np.linspace(40, 80, size)
    # m = VE·MAP·V/(R·T)·rpm/120: 0.5·p kPa·2 L/(0.28705·298.15)·rpm/120 in g/s.
    air = ve / 100 * pressure * 2.0 / (0.28705 * 298.15) * speed / 120
    pulse = air / 14.7 / (5.0 * 4) * 1000 * 120 / speed + 0.8
    return make_log(
        engine_speed=speed, manifold_pressure=pressure, intake_air_temperature=25.0, coolant_temperature=90.0,
        throttle_position=12.0, lambda_measured=1.0, lambda_target=1.0, injector_pulse=pulse,
        airflow_voltage=np.interp(air * meter_factor, CURVE.values, CURVE.x.breakpoints),
    )  # fmt: skip


def test_three_ways_that_agree():
    check = cross_check([air_of(driven(), CALIBRATION)])
    assert check.ways == (METER, SPEED_DENSITY, BY_FUEL)
    assert largest_gap(check) < 0.05
    assert check.apart == ()


def test_the_odd_one_out_is_named_with_its_place():
    check = cross_check([air_of(driven(meter_factor=0.9), CALIBRATION)])
    assert {one.way for one in check.apart} == {METER}
    assert check.apart[0].percent == pytest.approx(-10, abs=0.3)
    assert "airflow meter gives 10.0 % less than the others" in check.apart[0].sentence


def test_what_is_lacking_is_said_and_two_ways_still_compare():
    whole = driven()
    log = type(whole)(
        whole.name,
        tuple(
            type(raster)(raster.time, tuple(c for c in raster.channels if c.quantity not in ("airflow_voltage",)))
            for raster in whole.rasters
        ),
    )
    check = cross_check([air_of(log, CALIBRATION)])
    assert check.ways == (SPEED_DENSITY, BY_FUEL)
    assert "meter" in check.lacking[METER]
    nothing = cross_check([air_of(make_log(engine_speed=np.full(50, 2000.0)), Calibration("n", "N"))])
    assert nothing.ways == ()


def test_ve_from_a_trusted_meter_and_a_meter_from_a_trusted_ve():
    # The engine breathes 55 %, the table says 50 %, and the meter is right.
    log = driven(ve=55.0)
    found = fuel_proposal([log], CALIBRATION, "ve_main", Policy(source="meter", unreached="carry"))
    assert found.correction.after == pytest.approx(np.full((2, 3), 55.0), abs=0.2)
    steps = {step.words: step.value for step in explain(found, 0, 1).steps}
    assert steps["air by the meter over this table's, mean"] == pytest.approx(1.1, abs=0.003)
    right = CALIBRATION.with_table(make_table([[55.0] * 3, [55.0] * 3]))
    low = right.with_table(CURVE.with_grid(CURVE.grid * 0.95))
    curve = fuel_proposal([log], low, "maf", Policy(source="speed_density", estimator="weighted"))
    reached = curve.reached[0]
    assert curve.estimate.factor[0][reached] == pytest.approx(1 / 0.95, rel=0.01)
    assert (np.diff(curve.corrected.values) > 0).all()
    with pytest.raises(BadInput, match="against itself"):
        fuel_proposal([log], CALIBRATION, "ve_main", Policy(source="speed_density"))


def test_a_setup_is_switched_and_put_back_exactly():
    setup = next(one for one in PREPARED if one.name == "open loop")
    during, active = switch(CALIBRATION, setup)
    assert during.constant("closed_loop_enabled") == during.constant("overrun_cut_enabled") == 0
    assert set(active.absent) == {"full_load_enrichment_enabled", "component_protection_enabled", "clutch_cut_enabled"}
    assert from_data(as_data(active)) == active
    after, touched = put_back(during, active)
    assert calibration_json.content_hash(after) == calibration_json.content_hash(CALIBRATION)
    assert touched == ()


def test_tables_are_switched_too_and_other_work_is_kept():
    during, active = switch(CALIBRATION, Setup("flat", "", (SetupSetting("maf", 7.0),)))
    assert (during.table("maf").values == 7.0).all()
    worked = during.with_table(make_table([[60.0] * 3, [60.0] * 3]))
    after, touched = put_back(worked, active)
    assert after.table("maf").values.tolist() == CURVE.values.tolist()
    assert (after.table("ve_main").values == 60).all()
    assert touched == ()


def test_what_was_changed_meanwhile_is_told():
    during, active = switch(CALIBRATION, Setup("one", "", (SetupSetting("overrun_cut_enabled", 0.0),)))
    constants = tuple(replace(c, value=0.5) if c.id == "overrun_cut_enabled" else c for c in during.constants)
    after, touched = put_back(replace(during, constants=constants), active)
    assert after.constant("overrun_cut_enabled") == 1.0
    assert touched == ("overrun_cut_enabled",)


@pytest.mark.parametrize("text", ["", "overrun", "= 3", "a = b", "a = nan"])
def test_a_setup_of_ones_own_is_read_line_by_line(text):
    assert read_wishes("a = 1\n\n b = 0,5") == (SetupSetting("a", 1.0), SetupSetting("b", 0.5))
    with pytest.raises(BadInput):
        read_wishes(text)


def test_a_setup_without_any_of_its_settings_is_refused():
    with pytest.raises(BadInput, match="none of the settings"):
        switch(Calibration("n", "N"), PREPARED[0])


# --- polynomials ------------------------------------------------------------------------------------------------

X, Y = np.array([1000.0, 1500, 2000, 2500, 3000]), np.array([20.0, 40, 60, 80])
ZONES = (
    Zone((1000, 2000), (20, 80), 2, (60.0, 5.0, 10.0, 1.0, 0.5, -2.0)),
    Zone((2000, 3000), (20, 80), 1, (68.0, 2.0, 9.0)),
)


def test_powers_and_values_by_hand():
    assert powers(2) == [(0, 0), (1, 0), (0, 1), (2, 0), (1, 1), (0, 2)]
    # At 2000 rpm and 80 kPa u = v = 1: the sum of the coefficients; at the middle, u = v = 0: the first.
    assert ZONES[0].value(np.array([2000.0, 1500]), np.array([80.0, 50])).tolist() == pytest.approx([74.5, 60.0])


def test_zones_cover_their_rectangles_and_leave_the_rest():
    beyond = np.full((4, 5), -1.0)
    values = zone_surface(ZONES[:1], X, Y, beyond)
    assert (values[:, 3:] == -1).all()
    assert (values[:, :3] > 0).all()


@given(st.lists(st.floats(-3, 3), min_size=6, max_size=6))
def test_a_refit_finds_what_a_polynomial_can_hold(change):
    other = replace(ZONES[0], coefficients=tuple(np.add(ZONES[0].coefficients, change)))
    wanted = zone_surface((other,), X[:3], Y, np.zeros((4, 3)))
    found = refit(ZONES[:1], X[:3], Y, wanted, np.ones((4, 3)))
    assert found[0].coefficients == pytest.approx(other.coefficients, abs=1e-5)


def test_a_correction_of_a_polynomial_table_is_refitted_and_its_misfit_shown(steady):
    table = Table(
        "ve_main", "VE", "volumetric_efficiency", "%", Axis("engine_speed", "rpm", frozen(X)),
        Axis("manifold_pressure", "kPa", frozen(Y)), frozen(np.zeros((4, 5))), 0, 160, 1,
    ).with_zones(ZONES)  # fmt: skip
    calibration = Calibration("c", "C", (), (table,))
    assert calibration_json.loads(calibration_json.dumps(calibration)).table("ve_main").zones == ZONES
    rng = np.random.default_rng(1)
    logs = [
        steady(size=200, engine_speed=np.full(200, x), manifold_pressure=y, lambda_measured=1.05 + 0.001 * rng.normal(size=200))
        for x in X for y in Y
    ]  # fmt: skip
    found = fuel_proposal(logs, calibration, "ve_main", Policy(delay=(0, 0)))
    # 5 % everywhere is within what any polynomial can hold.
    assert found.correction.misfit is not None
    assert np.abs(found.correction.misfit).max() < 0.6
    assert found.corrected.zones[1].coefficients[0] == pytest.approx(68 * 1.05, rel=0.003)
    only = fuel_proposal(logs, calibration, "ve_main", Policy(delay=(0, 0), only=((0, 0),), unreached="leave"))
    assert only.correction.misfit is not None
    assert np.abs(only.correction.misfit).max() > 0.5


@pytest.mark.parametrize(
    ("zone", "said"),
    [
        ({"x": [3000, 1000], "y": [20, 80], "degree": 1, "coefficients": [1, 2, 3]}, "from low to high"),
        ({"x": [1000, 3000], "y": [20, 80], "degree": 2, "coefficients": [1, 2, 3]}, "degree 2 has 6 coefficients"),
    ],
)
def test_a_wrong_zone_is_named(zone, said):
    data = calibration_json.as_dict(Calibration("c", "C", (), (make_table([[50.0] * 3, [50.0] * 3]),)))
    data["tables"][0]["zones"] = [zone]
    import json

    with pytest.raises(BadInput, match=said):
        calibration_json.loads(json.dumps(data))
