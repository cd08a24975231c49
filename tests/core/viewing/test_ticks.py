from __future__ import annotations

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.viewing.ticks import decimals_of, nice_step, nice_ticks, number_text


@pytest.mark.parametrize(
    ("least", "step"), [(1.0, 1.0), (1.01, 2.0), (2.1, 2.5), (2.6, 5.0), (7.0, 10.0), (0.03, 0.05), (300.0, 500.0)]
)
def test_a_step_is_the_next_round_number(least, step):
    assert nice_step(least) == pytest.approx(step)


@given(st.floats(-500, 500), st.floats(0.01, 4000), st.integers(2, 8))
def test_ticks_are_round_within_the_ends_and_not_too_many(low, span, about):
    found = nice_ticks(low, low + span, about)
    beyond = 1e-6 + 1e-8 * span  # a tick may lie beyond by what is nothing of a step
    assert all(low - beyond <= one <= low + span + beyond for one in found)
    assert len(found) <= about + 1
    assert len({round(b - a, 6) for a, b in itertools.pairwise(found)}) <= 2


@given(st.sampled_from([1.0, 2.0, 2.5, 5.0]), st.integers(-5, 5))
def test_decimals_tell_ticks_apart(one, power):
    step = one * 10.0**power
    digits = decimals_of(step)
    assert f"{step:.{digits}f}" != f"{2 * step:.{digits}f}"
    assert float(f"{3 * step:.{digits}f}") == pytest.approx(3 * step, rel=1e-6)


def test_numbers_as_text():
    assert [number_text(one) for one in (-2.5, -0.0, 1e3, 0.1 + 0.2)] == ["−2.5", "0", "1000", "0.3"]
