"""Curves over coolant, moved as a policy allows: what must hold whatever the samples say."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.evidence.falling_fit import FallingFit
from uchiwa.core.proposals.falling_curve import CurvePolicy, State, move_curve
from uchiwa.core.tables.table import Axis, Table, frozen

POINTS = np.array([-20.0, 0, 20, 40, 60, 80, 95])
N = POINTS.size


def table_of(before: np.ndarray, decimals: int = 2) -> Table:
    axis = Axis("coolant_temperature", "degC", frozen(POINTS))
    return Table("t", "T", "idle_airflow", "g/s", axis, None, frozen(before), -90.0, 400.0, decimals)


def fit_of(value: np.ndarray, reached: np.ndarray, mean: np.ndarray, half_width: float = 0.01) -> FallingFit:
    many = np.where(reached, 100.0, 0.0)
    return FallingFit(
        value, np.full(N, half_width / 2), np.where(reached, half_width, np.inf), many, many / 10,
        np.where(reached, 5, 0), np.where(np.isfinite(mean), mean, np.nan),
    )  # fmt: skip


def policy(**changes: object) -> CurvePolicy:
    usual = CurvePolicy(
        1.0, np.full(N, 4.0), np.zeros(N), 10, 1.0, np.ones(N, dtype=bool), np.zeros(N, dtype=bool), True, True,
        np.full(N, np.nan),
    )  # fmt: skip
    return replace(usual, **changes)


BEFORE = np.array([12.0, 10, 8, 6, 5, 4, 4])
REACHED = np.array([False, False, True, True, False, True, False])


def test_reached_values_go_to_what_was_measured_and_the_others_follow():
    value = BEFORE + np.array([9.0, 9, 1.0, 0.5, 9, 0.5, 9])
    moved = move_curve(table_of(BEFORE), BEFORE, fit_of(value, REACHED, np.where(REACHED, 1.0, np.nan)), policy())
    assert moved.after == pytest.approx([13, 11, 9, 6.5, 5.5, 4.5, 4.5])
    assert [str(one) for one in moved.state] == [
        "filled",
        "filled",
        "changed",
        "changed",
        "filled",
        "changed",
        "filled",
    ]
    assert not moved.rising


def test_an_interval_that_holds_no_change_is_not_acted_on():
    fit = fit_of(BEFORE + 0.3, REACHED, np.where(REACHED, 0.3, np.nan), half_width=0.4)
    assert (move_curve(table_of(BEFORE), BEFORE, fit, policy()).after == BEFORE).all()


def test_a_thin_value_does_not_follow_against_its_own_samples():
    mean = np.where(REACHED, -1.0, np.nan)
    mean[1] = 0.4
    moved = move_curve(table_of(BEFORE), BEFORE, fit_of(BEFORE - 1, REACHED, mean), policy())
    assert moved.after[1] == BEFORE[1]
    assert moved.after[2] == BEFORE[2] - 1


def test_colder_values_are_not_lowered_where_that_would_be_lean():
    fit = fit_of(BEFORE - 1, REACHED, np.where(REACHED, -1.0, np.nan))
    moved = move_curve(table_of(BEFORE), BEFORE, fit, policy(colder_down=False))
    assert (moved.after[:2] == BEFORE[:2]).all()
    assert moved.after[2] == BEFORE[2] - 1


def test_known_values_are_exact_and_the_change_fades_towards_them():
    before = np.array([150.0, 130, 120, 112, 106, 103, 103])
    fixed = np.array([np.nan] * 5 + [100.0, 100.0])
    reached = np.array([False, False, True, True, False, False, False])
    fit = fit_of(before + 8.0, reached, np.where(reached, 8.0, np.nan))
    told = policy(fixed=fixed, lowest=100.0, colder_down=False, limit=np.full(N, 30.0))
    moved = move_curve(table_of(before, 1), before, fit, told)
    assert moved.after[-2:] == pytest.approx([100, 100])
    assert moved.after[3] == 120
    assert moved.after[4] == pytest.approx(106 + 8 * 0.5)
    assert moved.state[-1] is State.FIXED


def test_a_curve_that_rose_is_raised_where_it_was_too_low():
    before = np.array([12.0, 9, 10, 6, 5, 4, 4])
    nothing = np.zeros(N, dtype=bool)
    fit = fit_of(before, nothing, np.full(N, np.nan))
    moved = move_curve(table_of(before), before, fit, policy())
    assert moved.after[1] == 10
    assert not moved.rising
    pinned = np.arange(N) == 1
    held = move_curve(table_of(before), before, fit, policy(open_=~pinned, pinned=pinned))
    assert held.after[1] == 9
    assert held.rising
    assert held.state[1] is State.PINNED


@given(st.integers(0, 100_000))
def test_whatever_the_samples_the_curve_is_bounded_ordered_and_true_to_its_own_samples(seed):
    rng = np.random.default_rng(seed)
    before = np.round(np.sort(rng.uniform(2, 20, N))[::-1], 2)
    reached = rng.random(N) < 0.5
    value = np.sort(before + rng.normal(0, 3, N))[::-1]
    # Samples lie about the fitted value or, where there are few, anywhere.
    mean = np.where(reached, value - before, np.where(rng.random(N) < 0.5, rng.normal(0, 1, N), np.nan))
    pinned = rng.random(N) < 0.15
    limit, strength = float(rng.uniform(0.1, 5)), float(rng.uniform(0, 1))
    told = policy(
        strength=strength, limit=np.full(N, limit), open_=~pinned, pinned=pinned, dead_band=np.full(N, 0.05),
        trend=bool(rng.random() < 0.8), colder_down=bool(rng.random() < 0.5),
    )  # fmt: skip
    table = table_of(before, int(rng.integers(0, 3)))
    moved = move_curve(table, before, fit_of(value, reached, mean, float(rng.uniform(0, 1))), told)
    change = moved.after - before
    assert (np.diff(moved.after) <= np.maximum(np.diff(before), 0) + 1e-6).all()
    assert (np.abs(change) <= limit + 0.5 * 10.0**-table.decimals + 1e-9).all()
    assert (change[pinned] == 0).all()
    assert (change * np.sign(np.nan_to_num(mean)) >= -1e-9).all()
    most = np.abs(change[reached]).max(initial=0.0) + 1.5 * 10.0**-table.decimals
    assert (np.abs(change[~reached]) <= most + 1e-9).all() or not reached.any()


@given(st.integers(0, 1000))
def test_no_strength_changes_nothing(seed):
    rng = np.random.default_rng(seed)
    before = rng.uniform(2, 20, N)
    fit = fit_of(rng.uniform(2, 20, N), rng.random(N) < 0.7, rng.normal(0, 1, N))
    moved = move_curve(table_of(before), before, fit, policy(strength=0.0, fixed=np.full(N, 3.0), lowest=30.0))
    assert (moved.after == before).all()
