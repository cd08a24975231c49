"""A smooth curve that never rises, through scattered samples."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.evidence.falling_fit import SampleWeights, fit_falling
from uchiwa.core.tables.table import Axis, frozen

AXIS = Axis("coolant_temperature", "degC", frozen([-20, 0, 20, 40, 60, 80]))
POINTS = AXIS.breakpoints


def weights(size: int, stretch: int = 100) -> SampleWeights:
    """Samples of 0.1 s, so many to a stretch, all of one start."""
    number = np.arange(size) // stretch
    return SampleWeights(np.ones(size), np.full(size, 0.1), number, np.zeros(size, dtype=np.int64))


def fitted(x: np.ndarray, y: np.ndarray, present: np.ndarray | None = None, apart: float = 0.0):
    flat = np.full(6, float(np.mean(y))) if present is None else present
    return fit_falling(AXIS, x, y, weights(x.size), flat, np.full(6, apart))


def test_samples_on_a_falling_line_give_that_line():
    x = np.linspace(0, 80, 2001)
    fit = fitted(x, 10 - 0.05 * x)
    assert fit.value[1:] == pytest.approx(10 - 0.05 * POINTS[1:], abs=0.02)
    assert fit.weight.sum() == pytest.approx(2001)
    assert fit.dwell.sum() == pytest.approx(200.1)
    assert fit.weight[0] == 0
    assert np.isinf(fit.half_width[0])


def test_samples_that_rise_give_their_mean():
    x = np.linspace(0, 80, 2001)
    fit = fitted(x, 4 + 0.05 * x)
    assert np.ptp(fit.value) == pytest.approx(0, abs=1e-6)
    assert fit.value[2] == pytest.approx(6.0, abs=0.05)


def test_one_wild_stretch_in_ten_moves_the_curve_little():
    x = np.linspace(0, 80, 2000)
    y = 10 - 0.05 * x + 0.02 * np.sin(np.arange(2000))
    y[600:800] += 3.0
    assert fitted(x, y).value[1:] == pytest.approx(10 - 0.05 * POINTS[1:], abs=0.35)


def test_what_lies_between_two_days_widens_the_interval_whatever_one_day_says():
    x = np.linspace(0, 80, 2001)
    narrow, wide = fitted(x, 10 - 0.05 * x), fitted(x, 10 - 0.05 * x, apart=0.2)
    assert narrow.half_width[3] < 0.05
    assert 0.4 < wide.half_width[3] < 0.7


@given(st.integers(0, 10_000))
def test_it_never_rises_and_the_order_of_samples_does_not_matter(seed):
    rng = np.random.default_rng(seed)
    size = int(rng.integers(2, 400))
    x, y = rng.uniform(-40, 100, size), rng.normal(5, 3, size)
    told = SampleWeights(
        rng.uniform(0.1, 1, size), rng.uniform(0.05, 0.5, size), rng.integers(0, 9, size), rng.integers(0, 3, size)
    )
    present = np.sort(rng.normal(5, 3, 6))[::-1]
    fit = fit_falling(AXIS, x, y, told, present, np.full(6, 0.1))
    assert (np.diff(fit.value) <= 1e-9).all()
    order = rng.permutation(size)
    shuffled = SampleWeights(told.weight[order], told.seconds[order], told.stretch[order], told.start[order])
    again = fit_falling(AXIS, x[order], y[order], shuffled, present, np.full(6, 0.1))
    assert again.value == pytest.approx(fit.value, abs=1e-7)
    assert np.nan_to_num(again.half_width, posinf=-1) == pytest.approx(
        np.nan_to_num(fit.half_width, posinf=-1), rel=1e-5, abs=1e-7
    )


def test_without_samples_the_curve_in_the_car_stands():
    present = np.array([9.0, 7, 5, 4, 3, 3])
    fit = fit_falling(AXIS, np.zeros(0), np.zeros(0), weights(0), present, np.zeros(6))
    assert (fit.value == present).all()
    assert np.isinf(fit.half_width).all()
