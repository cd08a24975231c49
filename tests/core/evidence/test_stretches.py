"""What is estimated on a part of a log is judged on the rest: worked by hand, and against plain loops."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from uchiwa.core.evidence import kernels
from uchiwa.core.evidence.stretches import FEWEST, NO_GAIN, StretchSums, gain, slope_of, stretches_of


def test_a_long_log_has_forty_stretches_and_a_short_one_has_none_under_six_seconds():
    assert stretches_of(np.linspace(0, 1200, 5000))[-1] == 40
    assert np.bincount(stretches_of(np.arange(0, 60, 0.5))).tolist() == [12] * 10
    assert stretches_of(np.arange(0, 60, 0.5), first=7)[0] == 7
    assert stretches_of(np.empty(0)).size == 0


def test_a_gain_is_the_squared_error_that_is_saved_over_that_there_was():
    told = gain(np.array([4.0, 4.0, 2.0]), np.array([1.0, 3.0, 2.0]))
    assert told.share == pytest.approx(0.4)
    assert told.error == pytest.approx(np.sqrt(3 * 7 / 3) / 10)  # saved 3, 1, 0: variance 7/3
    assert not told.sure
    assert gain(np.array([1.0]), np.array([0.0])) is NO_GAIN
    assert gain(np.zeros(9), np.zeros(9)) is NO_GAIN


def test_a_few_stretches_are_never_sure():
    before = np.ones(FEWEST - 1)
    assert not gain(before, before * 0.1).sure
    before = np.ones(FEWEST)
    assert gain(before, before * 0.1).sure
    assert not gain(before, before * 1.1).sure


def summed(value, signal, cell, stretch, cells, stretches):
    out = np.zeros((stretches, cells, 6))
    kernels.stretch_sums(value, signal, cell, stretch, out)
    return StretchSums(out)


@settings(max_examples=40)
@given(st.integers(0, 10**6), st.integers(2, 6), st.integers(1, 4))
def test_sums_leave_out_their_own_stretch_as_a_loop_does(seed, stretches, cells):
    rng = np.random.default_rng(seed)
    size = 60
    value, signal = rng.normal(size=(2, size))
    cell, stretch = rng.integers(0, cells, size), np.sort(rng.integers(0, stretches, size))
    told = summed(value, signal, cell, stretch, cells, stretches).left_out()
    for number in range(stretches):
        a = b = c = 0.0
        for one in range(cells):
            mine = (stretch == number) & (cell == one)
            others = (stretch != number) & (cell == one)
            if mine.any() and others.any():
                dv, df = value[mine] - value[others].mean(), signal[mine] - signal[others].mean()
                a, b, c = a + (dv**2).sum(), b + (dv * df).sum(), c + (df**2).sum()
        assert [one[number] for one in told] == pytest.approx([a, b, c], rel=1e-9, abs=1e-9)


@pytest.mark.parametrize("true", [0.5, 0.0])
def test_a_slope_is_found_where_there_is_one_and_not_believed_where_there_is_none(true):
    rng = np.random.default_rng(5)
    size = 4000
    signal, cell = rng.normal(size=size), rng.integers(0, 12, size)
    value = true * signal + 0.2 * cell + rng.normal(0, 0.5, size)
    told = slope_of(summed(value, signal, cell, np.repeat(np.arange(20), 200), 12, 20))
    assert abs(told.slope - true) < 4 * told.error
    assert told.gain.sure is (true > 0)
    if true:
        assert told.gain.share == pytest.approx(0.5, abs=0.05)  # 0.25 of the 0.5 that is left within cells


def test_a_signal_that_never_moves_says_nothing():
    told = slope_of(summed(np.arange(40.0), np.ones(40), np.zeros(40, int), np.repeat([0, 1], 20), 1, 2))
    assert (told.slope, told.gain.sure) == (0.0, False)
