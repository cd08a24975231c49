"""How far samples scatter, and how many of them are worth one: against noise whose truth is known."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.evidence.kernels import read_only
from uchiwa.core.evidence.surface_kernels import summed_autocorrelation
from uchiwa.core.evidence.surface_noise import Followers, beyond_visits, noise_of, samples_worth_one


def lasting(rng, size, rho):
    """First-order autoregressive noise of unit variance."""
    value, noise = np.empty(size), rng.normal(size=size)
    value[0] = noise[0]
    for n in range(1, size):
        value[n] = rho * value[n - 1] + np.sqrt(1 - rho**2) * noise[n]
    return value


@given(
    seed=st.integers(0, 10_000), rho=st.floats(0.0, 0.98),
    runs=st.lists(st.integers(1, 120), min_size=1, max_size=12), longest=st.integers(1, 150),
)  # fmt: skip
def test_autocorrelations_are_summed_as_they_are_defined(seed, rho, runs, longest):
    """Pair by pair of samples that no break lies between, lag after lag."""
    size = sum(runs)
    residual = lasting(np.random.default_rng(seed), size, rho)
    breaks = np.repeat(np.arange(len(runs)), runs)
    variance = float(np.mean(residual**2))
    expected, before = 0.0, 0.0
    for lag in range(1, longest + 1):
        pairs = [n for n in range(lag, size) if breaks[n] == breaks[n - lag]]
        rho_of_lag = sum(residual[n] * residual[n - lag] for n in pairs) / max(len(pairs), 1) / variance
        if lag % 2 == 1:
            before = rho_of_lag
            continue
        if abs(before + rho_of_lag) < 1e-12:
            return  # which side of nothing it lies on is a matter of rounding
        if before + rho_of_lag <= 0 or len(pairs) < 30:
            break
        expected += before + rho_of_lag
    told = summed_autocorrelation(read_only(residual), breaks, longest, variance)
    assert told == pytest.approx(expected, rel=1e-9, abs=1e-12)


@pytest.mark.parametrize("rho", [0.0, 0.5, 0.8, 0.95])
def test_samples_that_follow_each_other_are_worth_what_theory_says(rho):
    """An autoregressive process has (1 + ρ)/(1 − ρ) samples to one."""
    rng = np.random.default_rng(3)
    told = np.median([samples_worth_one(lasting(rng, 8000, rho), np.zeros(8000, int)) for _ in range(9)])
    assert told == pytest.approx((1 + rho) / (1 - rho), rel=0.2)


def test_a_tenfold_rate_makes_nobody_surer():
    """The same noise in time, sampled at 10 and at 100 Hz: ten times the samples, each worth a tenth."""
    rng = np.random.default_rng(8)
    quick = lasting(rng, 60_000, 0.5**0.1)
    slow = quick[::10]
    each = [
        samples_worth_one(quick, np.zeros(quick.size, int), 100.0),
        samples_worth_one(slow, np.zeros(slow.size, int), 10.0),
    ]
    assert each[0] / each[1] == pytest.approx(10, rel=0.35)


def test_what_lies_on_two_sides_of_a_break_does_not_follow():
    value = np.repeat(np.random.default_rng(1).normal(size=20_000), 2)
    joined, apart = np.zeros(40_000, int), np.arange(40_000)
    assert samples_worth_one(value, joined) == pytest.approx(2.0, abs=0.2)
    assert samples_worth_one(value, apart) == 1.0


def test_what_lasts_through_a_visit_is_seen_between_visits():
    rng = np.random.default_rng(6)
    node, breaks = np.repeat(np.arange(60) % 6, 40), np.zeros(2400, int)
    white = rng.normal(size=2400)
    assert beyond_visits(white, breaks, node, 1.0) == pytest.approx(1.0, abs=0.4)
    assert beyond_visits(white + np.repeat(rng.normal(0, 1, 60), 40), breaks, node, 1.0) > 5
    assert beyond_visits(white[:100], breaks[:100], node[:100], 1.0) == 1.0


def test_each_cell_has_its_own_scatter_as_far_as_it_has_samples():
    rng = np.random.default_rng(2)
    node = np.concatenate([np.zeros(3000, int), np.ones(3000, int), np.full(3, 2)])
    residual = np.concatenate([rng.normal(0, 0.01, 3000), rng.normal(0, 0.04, 3000), np.full(3, 0.5)])
    followed = Followers(np.arange(node.size), np.zeros(node.size, int), np.array([0.0]))
    told = noise_of(residual, node, 4, followed)
    assert told.by_cell[0] == pytest.approx(0.01, rel=0.1)
    assert told.by_cell[1] == pytest.approx(0.04, rel=0.1)
    assert told.by_cell[2] < 0.4  # three samples say little
    assert told.by_cell[3] == pytest.approx(told.spread)
    assert told.together == pytest.approx(1.0, abs=0.2)


def test_efficiency_is_near_hubers_for_normal_noise():
    """Huber's estimator at 1.345 keeps 95 % of the mean's efficiency under normal errors."""
    residual = np.random.default_rng(4).normal(size=20_000)
    told = noise_of(
        residual, np.zeros(20_000, int), 1, Followers(np.arange(20_000), np.zeros(20_000, int), np.zeros(1))
    )
    weight = np.mean(np.minimum(1.0, 1.345 / np.abs(residual)))
    assert told.efficiency * weight == pytest.approx(0.95, abs=0.02)
