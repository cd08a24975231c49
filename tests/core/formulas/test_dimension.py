"""Units carried through formulas drawn at random: as pint has them, refused alike from either side, and never guessed."""

from __future__ import annotations

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from uchiwa.core.formulas.computed import SHIPPED
from uchiwa.core.formulas.dimension import declared, meaning
from uchiwa.core.formulas.language import FormulaError, parse
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import pint_unit

PLAIN_SCALES = (
    "engine_speed",
    "manifold_pressure",
    "barometric_pressure",
    "airflow",
    "injector_pulse",
    "vehicle_speed",
    "battery_voltage",
)
FACTORS = st.lists(st.tuples(st.sampled_from(PLAIN_SCALES), st.integers(1, 3), st.booleans()), min_size=1, max_size=4)


def unit_of(name: str):
    return pint_unit(QUANTITIES[name].unit)


def product(factors) -> tuple[str, object]:
    """The formula of a product, and its unit as pint has it."""
    (name, power, _), *more = factors
    text, unit = f"{name} ** {power}", unit_of(name) ** power
    for other, exponent, divides in more:
        text += f" {'/' if divides else '*'} {other} ** {exponent}"
        unit = unit / unit_of(other) ** exponent if divides else unit * unit_of(other) ** exponent
    return text, unit


@given(FACTORS)
def test_products_and_quotients_have_the_unit_that_pint_gives(factors):
    text, unit = product(factors)
    found = meaning(parse(text), SHIPPED)
    assert found.exact
    assert found.of is not None
    assert found.of.dimensionality == unit.dimensionality
    assert (1.0 * found.of).to(unit).magnitude == pytest.approx(1.0)


@given(
    FACTORS,
    FACTORS,
    st.sampled_from(("{} + {}", "{} - {}", "min({}, {})", "max({}, {})", "where(engine_speed > 900, {}, {})")),
)
def test_what_measures_different_things_is_refused_from_either_side(one, other, way):
    (first, a), (second, b) = product(one), product(other)
    assume(a.dimensionality != b.dimensionality)
    for left, right in ((first, second), (second, first)):
        with pytest.raises(FormulaError):
            meaning(parse(way.format(left, right)), SHIPPED)
        with pytest.raises(FormulaError):
            meaning(parse(f"where({left} < {right}, 1, 2)"), SHIPPED)


@given(FACTORS, st.floats(0.1, 1000), st.sampled_from(("{} * {}", "{} / {}")))
def test_times_a_plain_number_the_unit_is_not_certain_and_not_told(factors, number, way):
    text, unit = product(factors)
    assume(not unit.dimensionless)
    found = meaning(parse(way.format(f"({text})", f"{number:.4f}")), SHIPPED)
    assert not found.exact
    assert found.unit == ""


@given(FACTORS, st.floats(0.1, 1000))
def test_a_plain_number_takes_the_unit_of_what_it_is_added_to(factors, number):
    text, unit = product(factors)
    for way in (f"{text} + {number:.3f}", f"{number:.3f} - {text}", f"max({text}, {number:.3f})"):
        found = meaning(parse(way), SHIPPED)
        assert found.exact
        assert found.of is not None
        assert found.of.dimensionality == unit.dimensionality


PRESSURES = ("kPa", "bar", "mbar", "Pa", "psi", "hPa")


@pytest.mark.parametrize("unit", PRESSURES)
def test_a_wanted_unit_scales_by_what_pint_says(unit):
    formula = parse("manifold_pressure - barometric_pressure")
    found = declared(meaning(formula, SHIPPED), unit, formula)
    assert found.unit == unit
    assert found.exact
    assert found.factor == pytest.approx((1.0 * pint_unit("kPa")).to(pint_unit(unit)).magnitude)


def test_a_wanted_unit_of_another_kind_is_refused_and_one_of_the_shops_own_is_taken_at_its_word():
    formula = parse("manifold_pressure - barometric_pressure")
    with pytest.raises(FormulaError, match="which is not rpm"):
        declared(meaning(formula, SHIPPED), "rpm", formula)
    own = declared(meaning(formula, SHIPPED), "clicks", formula)
    assert (own.unit, own.exact, own.factor) == ("clicks", False, 1.0)
    assert own.note
    assert declared(meaning(formula, SHIPPED), "  ", formula).unit == "kPa"


@given(FACTORS)
def test_rates_are_per_second_and_roots_undo_squares(factors):
    text, unit = product(factors)
    rate = meaning(parse(f"rate({text})"), SHIPPED).of
    assert rate is not None
    assert rate.dimensionality == (unit / pint_unit("s")).dimensionality
    root = meaning(parse(f"sqrt(({text}) ** 2)"), SHIPPED).of
    assert root is not None
    assert root.dimensionality == unit.dimensionality


def test_temperatures_are_told_apart_from_differences_of_them():
    assert meaning(parse("rate(coolant_temperature)"), SHIPPED).unit == "K/s"
    assert meaning(parse("coolant_temperature + 5"), SHIPPED).unit == QUANTITIES["coolant_temperature"].unit
    with pytest.raises(FormulaError):
        meaning(parse("coolant_temperature + manifold_pressure"), SHIPPED)
