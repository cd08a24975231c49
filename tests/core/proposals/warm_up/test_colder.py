"""The warm-up factor carried on towards the cold."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.proposals.warm_up.colder import WarmUpCurve, carried_on

cold = np.array([-30.0, -20.0, -10.0, 0.0, 10.0, 20.0])


def measured(fold: float, coldest: float = 20.0, size: float = 40.0, half: float = 0.9) -> WarmUpCurve:
    celsius = np.arange(coldest, 75.0, 10.0)
    return WarmUpCurve(celsius, excess(celsius, fold, size), np.full(celsius.size, half))


def excess(celsius: np.ndarray, fold: float, size: float = 40.0) -> np.ndarray:
    return size * (np.exp(-celsius / fold) - np.exp(-80.0 / fold))


def test_a_worked_value():
    """20 and 10 at 40 and 60 °C fall too slowly for any fold but the longest: 50 K.

    The law fitted to both meets 40 °C above 20 + 0.5, so it starts from 20 + 0.5 + 1.5 = 22; at 20 °C it is 1.8933 times as
    much (e⁻⁰·⁴ − e⁻¹·⁶ over e⁻⁰·⁸ − e⁻¹·⁶), 41.65, and 3 % of the factor come on top: 141.65 · 1.03 = 145.90.
    """
    told = WarmUpCurve(np.array([40.0, 60.0]), np.array([20.0, 10.0]), np.array([0.5, 0.5]))
    assert carried_on(np.array([20.0]), told, 80.0) == pytest.approx([45.90], abs=0.01)


@given(fold=st.floats(22, 45), coldest=st.floats(-10, 40), size=st.floats(5, 60))
def test_a_law_that_holds_is_followed_on_its_rich_side(fold, coldest, size):
    wanted = excess(cold, fold, size)
    found = carried_on(cold, measured(fold, coldest, size), 80.0)
    beyond = (cold < coldest) & (cold >= coldest - 40)
    assert (found[beyond] >= wanted[beyond]).all()
    assert (found[cold >= coldest] == -np.inf).all()
    assert (np.diff(found[cold < coldest]) < 0).all()


def test_a_poor_edge_does_not_pull_the_cold_down():
    told = measured(27.0)
    poor = WarmUpCurve(told.celsius, told.excess.copy(), told.half_width.copy())
    poor.excess[0] -= 4.0
    poor.half_width[0] = 4.0
    assert (carried_on(cold[:4], poor, 80.0) >= excess(cold[:4], 27.0)).all()


def test_it_does_not_run_away_from_a_steep_edge():
    """Beyond forty kelvin it goes straight: the steps of ten kelvin stay alike."""
    steep = WarmUpCurve(np.array([30.0, 40.0, 50.0, 60.0]), np.array([10.0, 2.0, 1.0, 0.5]), np.full(4, 0.5))
    far = carried_on(np.array([-40.0, -30.0, -20.0]), steep, 80.0)
    assert np.diff(far)[0] == pytest.approx(np.diff(far)[1], rel=0.05)


def test_one_value_carries_nothing_on():
    assert carried_on(cold, WarmUpCurve(np.array([40.0, 60.0]), np.array([5.0, -0.2]), np.ones(2)), 80.0) is None
