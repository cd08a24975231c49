"""Operating points free of their channels' noise, and logs on one level."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.evidence.log_levels import log_levels
from uchiwa.core.evidence.steadied import steadied


def test_noise_about_one_point_goes_and_steps_stay():
    rng = np.random.default_rng(4)
    time = np.arange(2000) / 50.0
    truth = np.where(time < 20, 34.0, 60.0)
    found = steadied(time, truth + 3.0 * rng.normal(size=2000))
    assert np.std((found - truth)[100:900]) < 0.7
    away = (np.abs(time - 20) > 0.2) & (time > 0.1) & (time < 39.8)
    assert np.abs((found - truth)[away]).max() < 3.0
    assert np.mean(np.abs((found - truth)[away])) < 0.6


def test_what_moves_by_more_than_its_noise_is_left():
    rng = np.random.default_rng(5)
    time = np.arange(1000) / 20.0
    truth = 2500 + 1500 * np.sin(time / 2)
    found = steadied(time, np.round(truth + 3 * rng.normal(size=1000)))
    assert np.abs(found - truth).max() < 40
    assert np.std(found - truth) < 6


def test_a_channel_without_noise_stays_as_it_is():
    time = np.arange(300) / 10.0
    smooth = np.linspace(30, 90, 300)
    assert steadied(time, smooth) == pytest.approx(smooth, abs=1e-9)
    assert steadied(time[:3], smooth[:3]).tolist() == smooth[:3].tolist()


@given(st.integers(0, 10**6), st.sampled_from([4.0, 10.0, 50.0]), st.floats(0.0, 5.0))
def test_means_lie_within_what_was_read_around_them(seed, rate, noise):
    rng = np.random.default_rng(seed)
    time = np.cumsum(rng.uniform(0.5, 1.5, 400)) / rate
    values = 50 + np.cumsum(rng.normal(size=400)) * 0.3 + noise * rng.normal(size=400)
    values[rng.random(400) < 0.1] = np.nan
    found = steadied(time, values)
    assert (np.isnan(found) == np.isnan(values)).all()
    for at in range(0, 400, 37):
        near = values[np.abs(time - time[at]) <= 0.8 + 1e-9]
        if np.isfinite(values[at]):
            assert np.nanmin(near) - 1e-9 <= found[at] <= np.nanmax(near) + 1e-9


def test_levels_by_hand():
    # Cells 0 and 1 lie at 1.0 and 2.0; log 1 lies 0.3 above log 0, log 2 shares nothing.
    cell = np.array([0, 1, 0, 1, 5])
    log = np.array([0, 0, 1, 1, 2])
    value = np.array([1.0, 2.0, 1.3, 2.3, 9.0])
    assert log_levels(cell, log, value, 3) == pytest.approx([-0.15, 0.15, 0.0], abs=1e-6)
    assert log_levels(cell[:2], log[:2], value[:2], 1) == pytest.approx([0.0])
    assert log_levels(np.zeros(0, dtype=int), np.zeros(0, dtype=int), np.zeros(0), 2) == pytest.approx([0.0, 0.0])


@given(st.integers(0, 10**6), st.integers(2, 6))
def test_levels_of_logs_over_cells_that_bend_are_found(seed, logs):
    rng = np.random.default_rng(seed)
    size = 600 * logs
    cell, log = rng.integers(0, 25, size), rng.integers(0, logs, size)
    truth = rng.normal(size=logs) * 0.02
    value = rng.normal(size=25)[cell] + truth[log] + 0.005 * rng.normal(size=size)
    found = log_levels(cell, log, value, logs)
    assert found == pytest.approx(truth - truth.mean(), abs=0.002)
