from __future__ import annotations

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.typed_number import plain_number, typed_number


@pytest.mark.parametrize(
    ("text", "number"),
    [("1.5", 1.5), (" 1,5 ", 1.5), ("−3", -3.0), ("+2", 2.0), ("1 250,5", 1250.5), ("12\u202f000", 12000.0), (".5", 0.5),
     ("1e3", 1000.0)],
)  # fmt: skip
def test_a_number_is_read_as_it_is_typed(text, number):
    assert typed_number(text) == number


@pytest.mark.parametrize("text", ["", "lots", "1.2.3", "1,2,3", "nan", "inf", "0x10", "1e999", "²", "5 %"])
def test_anything_else_is_refused_and_says_where(text):
    with pytest.raises(BadInput) as refused:
        typed_number(text, "strength")
    assert refused.value.where == "strength"


@given(st.floats(allow_nan=False, allow_infinity=False))
def test_any_number_survives_being_written_with_a_comma(number):
    assert typed_number(repr(number).replace(".", ",")) == number


@given(st.text(max_size=30))
def test_any_text_is_a_number_or_stays(text):
    plain = plain_number(text)
    try:
        assert math.isfinite(typed_number(text)) or plain
    except BadInput:
        assert plain == text.strip() or not math.isfinite(float(plain))
