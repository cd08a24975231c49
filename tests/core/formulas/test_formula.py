import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.seeds import seeds
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.evaluation import Scope, Workings, condition, evaluate
from uchiwa.core.formulas.language import FUNCTIONS

TIME = np.arange(10) / 10
SIGNALS = {
    "engine_speed": np.linspace(1000, 1900, 10),
    "manifold_pressure": np.full(10, 60.0),
    "barometric_pressure": np.array([100.0, 0.0, *[100.0] * 8]),
    "throttle_position": TIME * 50,
}


def value(text):
    return evaluate(text, SIGNALS, TIME)


def test_arithmetic_over_signals():
    assert value("engine_speed / 100 + 1")[0] == pytest.approx(11)
    assert value("-(manifold_pressure - 10) ** 2")[3] == pytest.approx(-2500)
    assert value("max(engine_speed, 1500)").min() == 1500


def test_division_by_zero_is_a_gap():
    ratio = value("manifold_pressure / barometric_pressure")
    assert np.isnan(ratio[1])
    assert ratio[0] == pytest.approx(0.6)


def test_rate_and_delay():
    assert value("rate(throttle_position)")[5] == pytest.approx(50)
    assert value("delayed(engine_speed, 0.2)")[5] == pytest.approx(SIGNALS["engine_speed"][3])
    assert value("smooth(engine_speed, 0.3)")[5] == pytest.approx(SIGNALS["engine_speed"][5])


def test_conditions_chain_and_combine():
    held = condition("1200 <= engine_speed < 1500 and not manifold_pressure > 70", SIGNALS, TIME)
    assert held.tolist() == [False, False, True, True, True, False, False, False, False, False]
    assert condition("engine_speed < 1100 or engine_speed > 1850", SIGNALS, TIME).sum() == 2


def test_a_table_is_looked_up(calibration):
    assert evaluate('table("ve_main")', SIGNALS, TIME, Scope(calibration)) == pytest.approx(np.full(10, 50.0))


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("engine_sped", "not a quantity"),
        ("coolant_temperature > 80", "the log has no coolant"),
        ("__import__('os').system('true')", "not allowed"),
        ("engine_speed.__class__", "not part of the language"),
        ("open('x')", "not allowed"),
        ("[1 for x in engine_speed]", "not part of the language"),
        ("lambda: 1", "not part of the language"),
        ("9 ** 9 ** 9", "exponent"),
        ("engine_speed ** engine_speed", "exponent"),
        ("'text'", "only plain numbers"),
        ("engine_speed[0]", "not part of the language"),
        ("f'{engine_speed}'", "not part of the language"),
        ("1 +", "not a formula"),
        ("", "empty"),
        ("1e999", "only plain numbers"),
        ("rate", "write rate(x)"),
        ("rate(1, 2, 3)", "cannot be computed"),
        ("max(engine_speed, key=1)", "not allowed"),
        ("1 << 400", "not part of the language"),
        ("x" * 600, "more than 500"),
    ],
)
def test_anything_else_is_refused_with_its_place(text, said):
    with pytest.raises(BadInput, match=said.replace("(", r"\(").replace(")", r"\)")):
        value(text)


def test_the_position_is_the_one_of_the_fault():
    with pytest.raises(BadInput, match="character 16"):
        value("engine_speed + wrong")


def test_a_number_is_not_a_condition():
    with pytest.raises(BadInput, match="not a condition"):
        condition("engine_speed", SIGNALS, TIME)


atoms = st.sampled_from([*SIGNALS, "1", "2.5", "0", "nosuch", "True", "'a'", "().__class__", "table('x')"])
hostile = st.recursive(
    atoms,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "*", "/", "**", "<", "and", "//", "%", "@", "|"]), inner).map(" ".join),
        st.tuples(st.sampled_from([*FUNCTIONS, "eval", "getattr"]), inner).map(lambda pair: f"{pair[0]}({pair[1]})"),
        inner.map(lambda text: f"({text})[0]"),
        inner.map(lambda text: f"-{text}"),
    ),
    max_leaves=8,
)


@pytest.mark.parametrize("power", ["0", "0.0", "-0", "1e-200", "-2", "0.5", "3", "-1.5"])
def test_any_power_of_a_quantity_has_a_value_and_a_unit(power):
    for text in (f"manifold_pressure ** {power}", f"(manifold_pressure / engine_speed) ** {power}"):
        base = SIGNALS["manifold_pressure"] / (SIGNALS["engine_speed"] if "/" in text else 1.0)
        assert value(text) == pytest.approx(base ** float(power), nan_ok=True)
        assert value(f"({text}) ** 1e-200") == pytest.approx(np.ones(TIME.shape), nan_ok=True)
    said = Workings(TIME, SIGNALS).meaning(f"manifold_pressure ** {power}").unit
    assert said == {"-2": "1/kPa²", "3": "kPa³"}.get(power, said if float(power) else "1")


@settings(max_examples=seeds(120, 300))
@given(hostile)
def test_hostile_formulas_give_signals_or_a_sentence(text):
    try:
        result = value(text)
    except BadInput as error:
        assert "\n" not in str(error)
    else:
        assert result.shape == TIME.shape
