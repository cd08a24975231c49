import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Book, Computed, check_channel, read_channels
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.formulas.gears import gear_from
from uchiwa.core.formulas.language import FUNCTIONS, FormulaError, MissingChannelError, parse
from uchiwa.core.tables.table import Calibration, Constant

TIME = np.arange(20) / 10
SIGNALS = {
    "engine_speed": np.full(20, 3000.0),
    "manifold_pressure": np.full(20, 80.0),
    "barometric_pressure": np.full(20, 100.0),
    "intake_air_temperature": np.full(20, 26.85),
    "coolant_temperature": np.full(20, 90.0),
    "injector_pulse": np.full(20, 8.0),
    "lambda_measured": np.full(20, 1.05),
    "lambda_target": np.ones(20),
    "short_term_trim": np.full(20, 2.0),
    "long_term_trim": np.full(20, -1.0),
    "vehicle_speed": TIME * 36,
    "knock_level": np.full(20, 1.25),
    "knock_limit": np.full(20, 1.0),
}
CAR = CarFile(displacement=2.0, cylinders=4, injector_flow=5.0, injector_dead_time=1.0, fuel="petrol")
VE = make_table([[50.0] * 3, [50.0] * 3])
CALIBRATION = Calibration("c", "C", (Constant("disp", "displacement", 2.0, "L"),), (VE,))


def workings(book=SHIPPED, calibration=CALIBRATION, car=CAR, **changed):
    signals = {name: values for name, values in (SIGNALS | changed).items() if values is not None}
    return Workings(TIME, signals, Scope(calibration, car, book))


@pytest.mark.parametrize(
    ("name", "expected"),
    [
        # e = 1.05 / 1 · 1.02 · 0.99 = 1.06029
        ("fuel_error", 6.029),
        ("afr_measured", 1.05 * 14.7),
        ("pressure_ratio", 0.8),
        ("boost_pressure", -20.0),
        # 8 ms · 3000 / 1200
        ("injector_duty", 20.0),
        # 0.5 · 80 kPa · 2 L / (0.28705 J/(g·K) · 300 K) · 3000 / 120
        ("speed_density_air", 0.5 * 80 * 2 / (0.28705 * 300) * 25),
        # 5 g/s · 4 · (8 − 1) ms / 1000 · 25 = 3.5 g/s of fuel
        ("fuel_flow", 3.5),
        ("fuel_based_air", 3.5 * 1.05 * 14.7),
        ("knock_over_limit", 0.25),
        # 36 km/h per second
        ("acceleration", 10.0),
    ],
)
def test_shipped_channels_by_hand(name, expected):
    assert workings().channel(name)[10] == pytest.approx(expected, rel=1e-6)


def test_what_may_be_missing_may_be_missing_however_deep():
    bare = CarFile(displacement=2.0, cylinders=4, injector_flow=5.0)
    # 5 g/s · 4 · 8 ms / 1000 · 25 with no dead time, no rated pressure and no fuel pressure
    assert workings(car=bare).channel("fuel_flow")[10] == pytest.approx(4.0, rel=1e-6)
    with pytest.raises(BadInput, match="rail_pressure"):
        workings(car=bare).channel("injector_pressure")


def test_what_stands_in_need_not_be_there_if_it_is_not_needed():
    bare = CarFile(displacement=2.0, cylinders=4, injector_flow=5.0)
    found = workings(car=bare, fuel_pressure=np.full(20, 300.0)).channel("injector_pressure")
    # 300 kPa above 100 kPa of air outside, against 80 kPa in the intake
    assert found[10] == pytest.approx(320.0)
    assert SHIPPED.meaning("injector_pressure", CALIBRATION, bare).unit == "kPa"


@pytest.mark.parametrize("car", [None, CarFile(), CAR])
@pytest.mark.parametrize("name", [one.id for one in SHIPPED])
def test_every_channel_that_lacks_nothing_has_a_unit_and_values(name, car):
    more = {"fuel_pressure": np.full(20, 300.0), "battery_voltage": np.full(20, 13.0)}
    recorded = {one: values for one, values in (SIGNALS | more).items() if values is not None}
    if SHIPPED.lacking(name, recorded, CALIBRATION, car) == "":
        SHIPPED.meaning(name, CALIBRATION, car)
        assert workings(car=car, **more).channel(name).shape == TIME.shape
    else:
        with pytest.raises(BadInput):
            workings(car=car, **more).channel(name)


def test_afr_follows_the_ethanol_in_the_log():
    ratio = workings(ethanol_content=np.full(20, 85.0)).channel("afr_measured")
    assert ratio[0] == pytest.approx(1.05 * 9.82, abs=0.02)


def test_without_wideband_only_closed_loop_counts_and_two_banks_are_averaged():
    closed = np.where(np.arange(20) < 10, 1.0, 0.0)
    error = workings(
        lambda_measured=None, loop_state=closed, short_term_trim_2=np.full(20, 4.0), long_term_trim_2=np.full(20, -1.0)
    ).channel("fuel_error")
    assert error[0] == pytest.approx((1.03 * 0.99 - 1) * 100)
    assert np.isnan(error[15])


def test_gears_are_told_from_the_ratio():
    rng = np.random.default_rng(1)
    ratio = np.repeat([110.0, 62.0, 42.0], 400)
    road = np.tile(np.linspace(20, 60, 400), 3)
    gear = gear_from(road * ratio * (1 + rng.normal(0, 0.003, 1200)), road)
    assert [float(np.nanmedian(gear[k : k + 400])) for k in (0, 400, 800)] == [1, 2, 3]
    assert np.isnan(gear_from(np.full(20, 900.0), np.zeros(20))).all()


def test_channels_rest_on_channels_to_any_depth_and_a_recorded_one_goes_first():
    book = SHIPPED.with_channels(
        Computed(f"step_{number}", "", f"step_{number - 1} + 1" if number else "engine_speed * 0")
        for number in range(10)
    )
    assert workings(book).channel("step_9")[0] == 9
    assert workings(boost_pressure=np.full(20, 7.0)).channel("boost_pressure")[0] == 7


@pytest.mark.parametrize(
    ("formulas", "said"),
    [
        ({"a_one": "a_one + 1"}, "computed from itself: a_one → a_one"),
        ({"a_one": "b_two", "b_two": "c_three", "c_three": "a_one * 2"}, "a_one → b_two → c_three → a_one"),
        ({"rate": "engine_speed"}, "meaning of its own"),
        ({"Boost": "engine_speed"}, "cannot be a name"),
    ],
)
def test_circles_and_bad_names_are_refused(formulas, said):
    with pytest.raises(BadInput, match=said):
        Book(Computed(name, "", formula) for name, formula in formulas.items())


def test_wide_diamonds_are_looked_through_once():
    names = [f"w_{number}" for number in range(11)]
    book = Book(
        Computed(name, "", "+".join([names[number - 1]] * 12) if number else "engine_speed")
        for number, name in enumerate(names)
    )
    assert workings(book).channel("w_10")[0] == pytest.approx(3000.0 * 12.0**10)


@pytest.mark.parametrize(
    ("text", "position", "said"),
    [
        ("engine_speed + manifold_pressure", 15, "cannot be added"),
        ("  engine_speed + wrong", 17, "not a quantity"),
        ("manifold_pressure > 80 and engine_speed > throttle_position", 42, "cannot be compared"),
        ("short_term_trim - lambda_measured", 18, "parts of one"),
        ("max(rate(engine_speed), engine_speed)", 24, "chosen between"),
        ("engine_speed + open('x')", 15, "not allowed"),
        ("engine_speed ^ 2", 15, "not part of the language"),
        ("1 + engine_speed.real", 4, "not part of the language"),
        ("smooth(engine_speed, engine_speed)", 21, "number of seconds"),
        ("abs(1, 2)", 0, "cannot be computed from 2 arguments"),
        ("“x”", 0, "not a formula"),
    ],
)
def test_errors_say_at_which_character(text, position, said):
    with pytest.raises(FormulaError, match=said) as error:
        workings(throttle_position=np.ones(20)).value(text)
    assert error.value.position == position
    assert f"character {position + 1}" in str(error.value)


@pytest.mark.parametrize(
    ("text", "unit", "exact"),
    [
        ("manifold_pressure - barometric_pressure", "kPa", True),
        ("manifold_pressure / barometric_pressure", "1", True),
        ("rate(engine_speed)", "rpm/s", True),
        ("rate(vehicle_speed)", "km/h/s", True),
        ("rate(coolant_temperature)", "K/s", True),
        ("lambda_measured - 1", "1", True),
        ("manifold_pressure * 1000", "", False),
        ('table("ve_main")', "%", True),
        ('constant("displacement") * 1', "", False),
        ("engine_speed > 3000", "1", True),
        ("sqrt(airflow ** 2)", "g/s", True),
        ("engine_speed % 500", "rpm", True),
        ("engine_speed // 500", "", False),
    ],
)
def test_units_are_carried(text, unit, exact):
    said = workings(airflow=np.ones(20)).meaning(text)
    assert (said.unit, said.exact) == (unit, exact)


def test_a_wanted_unit_is_converted_to_or_refused():
    book = check_channel(Computed("boost_psi", "", "manifold_pressure - barometric_pressure", "psi"), SHIPPED)
    assert workings(book).channel("boost_psi")[0] == pytest.approx(-20 * 0.1450377, rel=1e-5)
    pull = check_channel(Computed("pull", "", "rate(vehicle_speed)", "m/s²"), SHIPPED)
    assert workings(pull).channel("pull")[10] == pytest.approx(10.0)
    with pytest.raises(FormulaError, match="which is not rpm"):
        check_channel(Computed("boost_rpm", "", "manifold_pressure - barometric_pressure", "rpm"), SHIPPED)


def test_a_gap_is_where_nothing_can_be_divided():
    zero = np.where(np.arange(20) == 3, 0.0, 100.0)
    ratio = workings(barometric_pressure=zero).channel("pressure_ratio")
    assert np.isnan(ratio[3])
    assert np.isfinite(ratio[[2, 4]]).all()
    assert np.isnan(workings().value("1 / 0")).all()


def test_what_a_log_lacks_is_said_through_every_step():
    with pytest.raises(MissingChannelError, match=r"no throttle.*from which deep is computed"):
        workings(SHIPPED.with_channels([Computed("deep", "", "smooth(throttle_position, 1)")])).channel("deep")
    assert SHIPPED.lacking("fuel_based_air", SIGNALS, None, CarFile(displacement=2.0)) == "constant injector_flow"
    assert SHIPPED.lacking("fuel_error", {"lambda_measured", "lambda_target"}) == ""
    assert SHIPPED.lacking("fuel_error", {"engine_speed"}) == "loop state"
    assert SHIPPED.lacking("speed_density_air", set(SIGNALS), Calibration("c", "C")) == "table volumetric_efficiency"


def test_needs_follow_channels_and_tables():
    assert set(SHIPPED.needs("pressure_ratio * 2")) == {"pressure_ratio", "manifold_pressure", "barometric_pressure"}
    assert set(SHIPPED.needs('table("volumetric_efficiency")', CALIBRATION)) == {"engine_speed", "manifold_pressure"}


def test_channels_come_from_a_file_with_the_place_of_a_fault():
    book = read_channels([{"id": "half", "formula": "engine_speed / 2", "unit": "rpm"}])
    assert workings(book).channel("half")[0] == 1500
    for data, said in (
        ({}, "not a list"),
        ([{"id": "x"}], "has an id and a formula"),
        ([{"id": "ab", "formula": "zz"}], r"\[0\] ab"),
    ):
        with pytest.raises(BadInput, match=said):
            read_channels(data)


@given(st.text(max_size=60))
def test_any_text_is_a_formula_or_an_error_with_a_position_in_it(text):
    try:
        parse(text)
    except FormulaError as error:
        assert 0 <= error.position <= max(len(text) - 1, 0)
        assert "\n" not in str(error)


@pytest.mark.parametrize("name", list(FUNCTIONS))
def test_every_function_can_be_used_as_it_is_written(name):
    formula = FUNCTIONS[name].written.replace("condition", "engine_speed > 1")
    for letter in ("x", "y"):
        formula = formula.replace(f"({letter}", "(engine_speed").replace(f" {letter}", " engine_speed")
    assert (
        workings(
            car=CAR.model_copy(update={"dead_times": ((10.0, 1.5), (14.0, 0.9))}),
            ethanol_content=np.ones(20),
            battery_voltage=np.full(20, 13.0),
        )
        .value(formula)
        .shape
        == TIME.shape
    )
