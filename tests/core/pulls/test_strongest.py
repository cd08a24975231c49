"""The strongest of several pulls, and how much stronger one is than another."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.pulls.strongest import mean_gain_percent, strongest

SPEEDS = np.arange(2000, 6500, 50.0)
HUMP = 200 + 60 * np.exp(-(((SPEEDS - 4000) / 900) ** 2))


def only(low: float, high: float, torque: np.ndarray) -> np.ndarray:
    """A pull between two engine speeds."""
    return np.where((low <= SPEEDS) & (high >= SPEEDS), torque, np.nan)


def test_the_stronger_wins_and_a_short_pull_about_the_peak_does_not():
    whole, better, peak = only(2200, 6200, HUMP), only(2300, 6300, HUMP * 1.02), only(3700, 4300, HUMP * 1.1)
    assert strongest(np.stack([whole, better, peak])) == 1
    assert strongest(np.stack([better, whole])) == 0
    part = only(3000, 5200, HUMP * 0.99)  # half of the widest, and its mean is the highest of all
    assert np.nanmean(part) > np.nanmean(better)
    assert strongest(np.stack([whole, better, part])) == 1


def test_without_torque_there_is_none():
    assert strongest(np.full((2, 5), np.nan)) is None
    assert strongest(np.zeros((0, 5))) is None


@given(st.permutations(range(4)), st.integers(0, 1000))
def test_it_does_not_depend_on_the_order_of_pulls(order, seed):
    rng = np.random.default_rng(seed)
    pulls = np.stack(
        [only(rng.uniform(2000, 3000), rng.uniform(5000, 6400), HUMP * rng.uniform(0.9, 1.1)) for _ in range(4)]
    )
    assert order[strongest(pulls[list(order)])] == strongest(pulls)


def test_gain_is_meant_over_the_speeds_at_which_both_were():
    before, now = only(2500, 4500, HUMP), only(3000, 6000, HUMP * 1.08)
    assert mean_gain_percent(before, now) == pytest.approx(8.0)
    assert mean_gain_percent(before, only(4500, 6000, HUMP)) is None
