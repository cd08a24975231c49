import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert, known_unit


@pytest.mark.parametrize(
    ("value", "written", "canonical", "expected"),
    [
        (212.0, "°F", "degC", 100.0),
        (14.5037738, "psi", "kPa", 100.0),
        (29.9213, "inHg", "kPa", 101.325),
        (1.2, "bar", "kPa", 120.0),
        (60.0, "mph", "km/h", 96.56064),
        (36.0, "kg/h", "g/s", 10.0),
        (1.0, "lb/min", "g/s", 7.559873),
        (2500.0, "us", "ms", 2.5),
        (850.0, "1/min", "rpm", 850.0),
        (75.0, "percent", "%", 75.0),
    ],
)
def test_units_that_loggers_write(value, written, canonical, expected):
    assert convert(np.array([value]), written, canonical)[0] == pytest.approx(expected, rel=1e-5)


@given(st.floats(-1e4, 1e4), st.sampled_from(["psi", "bar", "inHg", "mbar"]))
def test_a_conversion_and_back_changes_nothing(value, written):
    there = convert(np.array([value]), written, "kPa")
    assert convert(there, "kPa", written)[0] == pytest.approx(value, abs=1e-9, rel=1e-9)


def test_a_unit_of_something_else_is_refused():
    with pytest.raises(BadInput, match="cannot be turned into kPa"):
        convert(np.zeros(2), "°C", "kPa")
    with pytest.raises(BadInput, match="furlong"):
        convert(np.zeros(2), "furlong", "kPa")


def test_every_canonical_unit_is_known():
    assert [quantity.id for quantity in QUANTITIES.values() if not known_unit(quantity.unit)] == []
