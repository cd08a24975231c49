"""The least-squares surface: recovery, honesty of its errors, and what it must not be bent by."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from uchiwa.core.evidence.bins import Samples
from uchiwa.core.evidence.bordered import band_of, factored
from uchiwa.core.evidence.meter_shape import monotone_cubic, straight_over_bent
from uchiwa.core.evidence.surface import Conditions, fit_surface
from uchiwa.core.evidence.surface_net import bending, continued
from uchiwa.core.evidence.surface_noise import samples_worth_one
from uchiwa.core.proposals.fuel.rising import rising
from uchiwa.core.tables.table import Axis, Table, frozen

SPEED = Axis("engine_speed", "rpm", frozen([1000, 1500, 2000, 2600, 3200, 4000]))
PRESSURE = Axis("manifold_pressure", "kPa", frozen([20, 40, 60, 80, 100]))
VE = Table("ve", "VE", "volumetric_efficiency", "%", SPEED, PRESSURE, frozen(np.full((5, 6), 60.0)), decimals=1)
CURVE = Table("c", "Curve", "other", "1", SPEED, None, frozen(np.full(6, 2.0)))


def placed(x, y, value, breaks=None) -> Samples:
    """Samples that follow each other, unless breaks say otherwise."""
    return Samples(x, y, value, np.ones(value.size), np.zeros(value.size, dtype=np.int64) if breaks is None else breaks)


def wander(rng, size, low, high, step=0.02):
    """A walk that stays within bounds, as an engine's operating point does."""
    walk = np.cumsum(rng.normal(0, step, size)) + rng.uniform(0, 2)
    return low + (high - low) * (1 - np.abs(walk % 2 - 1))


def samples(rng, size, table, factor, noise=0.01):
    """Samples whose error is exactly what a table corrected by `factor` would need, with white noise."""
    x = wander(rng, size, 1000, 4000)
    y = wander(rng, size, 20, 100) if table.y is not None else None
    true = table.with_grid(table.grid * factor)
    return x, y, true.lookup(x, y) / table.lookup(x, y) + noise * rng.normal(size=size)


def fit(table, x, y, value, **more):
    return fit_surface(table, placed(x, y, value), **more)


def test_exact_samples_give_the_exact_factors():
    rng = np.random.default_rng(1)
    table = VE.with_grid(50 + 10 * rng.uniform(size=VE.shape))
    factor = 1 + 0.05 * rng.normal(size=VE.shape)
    found = fit(table, *samples(rng, 60_000, table, factor, noise=1e-5))
    assert found.factor == pytest.approx(factor, abs=5e-4)


def test_a_curve_is_fitted_as_well():
    rng = np.random.default_rng(2)
    factor = 1 + 0.05 * rng.normal(size=(1, 6))
    found = fit(CURVE, *samples(rng, 8000, CURVE, factor, noise=0.002))
    assert found.factor.shape == found.standard_error.shape == (1, 6)
    assert found.factor == pytest.approx(factor, abs=0.003)


def test_intervals_hold_what_they_promise():
    covered, ratio = [], []
    for seed in range(12):
        rng = np.random.default_rng(seed)
        factor = 1 + 0.03 * np.sin(np.add.outer(np.arange(5) / 1.5, np.arange(6) / 2) + seed)
        found = fit(VE, *samples(rng, 3000, VE, factor, noise=0.02))
        deviation = (found.factor - factor) / found.standard_error
        covered.append(np.mean(np.abs(deviation) < 1.96))
        ratio.append(np.sqrt(np.mean(deviation**2)))
    print(f"\ncovered {np.mean(covered):.3f}, deviations over stated errors {np.mean(ratio):.2f}")
    assert np.mean(covered) >= 0.90
    assert np.mean(ratio) >= 0.5


def test_wild_samples_hardly_count():
    rng = np.random.default_rng(4)
    x, y, value = samples(rng, 5000, VE, np.full(VE.shape, 1.05), noise=0.005)
    wild = rng.random(5000) < 0.05
    found = fit(VE, x, y, np.where(wild, 1.8, value))
    assert found.factor == pytest.approx(np.full(VE.shape, 1.05), abs=0.02)


def test_without_evidence_nothing_changes_and_nothing_is_sure():
    empty = np.zeros(0)
    nothing = fit(VE, empty, empty, empty)
    assert (nothing.factor == 1.0).all()
    rng = np.random.default_rng(5)
    here = np.abs(rng.normal(0, 100, 2000)) + 1000
    found = fit(VE, here, np.full(2000, 40.0), 1.04 + 0.005 * rng.normal(size=2000))
    assert found.factor[1, 0] == pytest.approx(1.04, abs=0.003)
    assert found.standard_error[4, 5] > 5 * found.standard_error[1, 0]


def test_samples_beyond_the_last_breakpoint_do_not_bend_the_edge():
    rng = np.random.default_rng(6)
    x, y = rng.uniform(1000, 4000, 20_000), rng.uniform(12, 100, 20_000)
    # The truth goes on falling below 20 kPa, where the controller's own lookup holds the edge.
    value = 1.05 - 0.01 * np.maximum(20 - y, 0) + 0.003 * rng.normal(size=x.size)
    found = fit(VE, x, y, value)
    assert found.factor[0] == pytest.approx(np.full(6, 1.05), abs=0.006)


def two_logs(rng, offset, factor):
    """Two logs over the same ground, the second of which lies off the first as a whole."""
    x, y, value = samples(rng, 10_000, VE, factor)
    log = np.repeat([0, 1], 5000)
    return x, y, value + offset * log, Conditions(log, np.zeros(10_000, dtype=np.int64), np.array([10.0, 10.0]))


def test_a_log_that_lies_off_the_others_is_told_from_the_surface():
    rng = np.random.default_rng(7)
    x, y, value, known = two_logs(rng, 0.03, np.full(VE.shape, 0.97))
    found = fit(VE, x, y, value, conditions=known)
    assert found.offsets[1] - found.offsets[0] == pytest.approx(0.03, abs=0.004)
    assert found.factor == pytest.approx(np.full(VE.shape, 0.985), abs=0.005)
    # Where the truth lies between the logs nobody knows: the errors say so.
    assert (found.standard_error > 0.005).all()
    same = fit(VE, x, y, value - 0.03 * known.log, conditions=known)
    assert same.offsets == (0.0, 0.0)


def test_a_quick_log_weighs_no_more_than_a_slow_one():
    rng = np.random.default_rng(11)
    parts = []
    for rate, level in ((10.0, 1.0), (100.0, 1.02)):
        size = int(400 * rate)
        x, y = wander(rng, size, 1000, 4000, 0.3 / np.sqrt(rate)), wander(rng, size, 20, 100, 0.3 / np.sqrt(rate))
        slow = np.interp(np.arange(size) / rate, np.arange(0, 402, 0.5), 0.01 * rng.normal(size=804))
        parts.append((x, y, level + slow, np.full(size, len(parts))))
    x, y, value, log = (np.concatenate(one) for one in zip(*parts, strict=True))
    known = Conditions(log, np.zeros(log.size, dtype=np.int64), np.array([10.0, 100.0]))
    found = fit_surface(VE, placed(x, y, value, log.astype(np.int64)), known)
    assert float(np.median(found.factor)) == pytest.approx(1.01, abs=0.005)


def test_far_from_the_evidence_the_errors_grow():
    rng = np.random.default_rng(12)
    x, y = rng.uniform(1000, 2000, 20_000), rng.uniform(20, 60, 20_000)
    found = fit(VE, x, y, 1.03 + 0.003 * rng.normal(size=x.size))
    column = found.standard_error[:, 1]
    assert column[0] < 0.01
    assert (np.diff(column[2:]) > 0.01).all()
    assert found.standard_error[4, 5] > 0.05


def test_the_penalty_follows_the_data():
    flat = fit(VE, *samples(np.random.default_rng(8), 6000, VE, np.full(VE.shape, 1.03)))
    rough = 1 + 0.04 * np.random.default_rng(9).normal(size=VE.shape)
    bent = fit(VE, *samples(np.random.default_rng(8), 6000, VE, rough))
    assert bent.bend > 5 * flat.bend
    assert bent.freedom > flat.freedom


@settings(max_examples=15)
@given(st.integers(0, 10_000), st.floats(0.9, 1.1))
def test_scaling_all_errors_scales_the_factors(seed, scale):
    rng = np.random.default_rng(seed)
    x, y, value = samples(rng, 8000, VE, np.full(VE.shape, 1.0), noise=0.005)
    one, other = fit(VE, x, y, value), fit(VE, x, y, value * scale)
    assert other.factor == pytest.approx(one.factor * scale, abs=0.004)


@settings(max_examples=15)
@given(st.integers(0, 10_000))
def test_the_order_of_logs_does_not_matter(seed):
    rng = np.random.default_rng(seed)
    parts = [samples(rng, 700, VE, np.full(VE.shape, 1.02)) for _ in range(3)]
    one = [np.concatenate([part[k] for part in parts]) for k in range(3)]
    other = [np.concatenate([part[k] for part in parts[::-1]]) for k in range(3)]
    breaks = np.repeat(np.arange(3), 700)
    a, b = (fit_surface(VE, placed(*each, breaks)) for each in (one, other))
    assert a.factor == pytest.approx(b.factor, abs=1e-9)
    assert a.standard_error == pytest.approx(b.standard_error, rel=1e-6)


def test_second_differences_are_scaled_by_the_spacing():
    even, uneven = np.array([0.0, 1.0, 2.0, 3.0]), np.array([0.0, 1.0, 3.0, 4.0])
    # f = x²: evenly spaced each second difference is 2; unevenly, 2 as well, for the divided difference of x² is 1.
    for points in (even, uneven):
        assert points**2 @ bending(points) @ points**2 == pytest.approx(2 * 2.0**2)
        assert points @ bending(points) @ points == pytest.approx(0)


def test_an_axis_continues_by_its_last_steps():
    assert continued(SPEED).breakpoints.tolist() == [500, 1000, 1500, 2000, 2600, 3200, 4000, 4800]


@pytest.mark.parametrize("rho", [0.0, 0.6, 0.9])
def test_samples_worth_one_of_a_known_process(rho):
    rng = np.random.default_rng(10)
    noise, slow = rng.normal(size=60_000), np.zeros(60_000)
    for k in range(1, slow.size):
        slow[k] = rho * slow[k - 1] + noise[k]
    # First-order autoregression: (1 + ρ)/(1 − ρ).
    found = samples_worth_one(slow, np.zeros(slow.size, dtype=np.int64))
    assert found == pytest.approx((1 + rho) / (1 - rho), rel=0.2)


@settings(max_examples=25)
@given(st.integers(0, 10_000), st.integers(2, 30), st.integers(0, 6), st.integers(0, 3))
def test_a_bordered_system_is_solved_as_a_dense_one(seed, size, width, border):
    rng = np.random.default_rng(seed)
    square = rng.normal(size=(size, size)) * (np.abs(np.subtract.outer(np.arange(size), np.arange(size))) <= width)
    banded = np.tril(square) @ np.tril(square).T + 0.5 * np.eye(size)
    banded *= np.abs(np.subtract.outer(np.arange(size), np.arange(size))) <= width
    banded += (np.abs(banded).sum(axis=1).max() + 5.0) * np.eye(size)
    side, corner = rng.normal(size=(size, border)) / size, 3.0 * np.eye(border)
    whole = np.block([[banded, side], [side.T, corner]])
    factor = factored(band_of(banded, width), side, corner)
    right = rng.normal(size=(size + border, 2))
    assert factor.solve(right) == pytest.approx(np.linalg.solve(whole, right))
    assert factor.squared(right[:, 0]) == pytest.approx(right[:, 0] @ np.linalg.solve(whole, right[:, 0]))
    assert factor.log_determinant == pytest.approx(np.linalg.slogdet(whole)[1])


@settings(max_examples=200)
@given(st.integers(0, 10**6), st.integers(2, 20))
def test_a_curve_kept_rising_rises_and_moves_nothing_beyond_its_change(seed, size):
    rng = np.random.default_rng(seed)
    before = np.cumsum(rng.uniform(0.05, 5, size))
    after = before * rng.uniform(0.7, 1.3, size)
    found = rising(before, after, rng.random(size) < 0.5, 0.01)
    assert (np.diff(found) > 0).all()
    low, high = np.minimum(before, after), np.maximum(before, after)
    assert ((found >= low - 1e-12) & (found <= high + 1e-12)).all()
    if (np.diff(after) >= 0.01).all():
        assert found == pytest.approx(after)


def test_of_two_points_that_meet_the_one_without_evidence_gives_way():
    before, after = np.array([10.0, 11.0, 20.0]), np.array([12.0, 11.0, 20.0])
    assert rising(before, after, np.array([True, False, False]), 0.01)[0] < 11.0
    both = rising(before, np.array([12.0, 11.5, 20.0]), np.array([True, False, True]), 0.01)
    assert both[1] <= 11.5 and both[0] < both[1]


@given(st.lists(st.floats(0.01, 5), min_size=2, max_size=12), st.lists(st.floats(0, 10), min_size=13, max_size=13))
def test_the_smooth_curve_neither_overshoots_nor_turns(steps, rises):
    points = np.concatenate(([0.0], np.cumsum(steps)))
    values = np.cumsum(rises[: points.size])
    fine = monotone_cubic(points, values, np.linspace(points[0], points[-1], 400))
    assert (np.diff(fine) >= -1e-9).all()
    assert monotone_cubic(points, values, points) == pytest.approx(values)


def test_what_straight_lines_give_too_much_between_points_is_known():
    axis = Axis("airflow_frequency", "Hz", frozen(np.arange(1500.0, 8000, 500)))
    curve = Table("m", "Meter", "maf_curve", "g/s", axis, None, frozen(((axis.breakpoints - 1150) / 640) ** 2.08))
    at = np.array([1500.0, 1750.0, 5250.0])
    true = ((at - 1150) / 640) ** 2.08
    assert straight_over_bent(curve, at) == pytest.approx(curve.lookup(at) / true, rel=0.012)


def test_a_falling_curve_is_left_alone():
    falling = replace(CURVE, role="maf_curve", values=frozen([5.0, 4, 3, 2, 1, 0.5]))
    assert straight_over_bent(falling, np.array([1100.0])).tolist() == [1.0]
