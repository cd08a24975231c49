"""An overlay never passes its bounds, moves in small steps, and never leans at load; on tables laid either way."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.briefs.coverage import load_shares
from uchiwa.core.live.limits import LiveLimits
from uchiwa.core.live.overlay import STEP_PERCENT, bounded, lean_forbidden, neutral, next_step
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.tables.table import frozen
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named
from uchiwa.standin.live_drive import LiveDrive

TABLE = pike_base().by_role("volumetric_efficiency")[0]
TABLES = (TABLE, replace(TABLE, x=TABLE.y, y=TABLE.x, values=frozen(TABLE.grid.T)))
CURVE = car_named("larkspur-tern").base().by_role("maf_curve")[0]
wanted = st.integers(0, 2**32 - 1).map(lambda seed: np.random.default_rng(seed).normal(1.0, 0.15, TABLE.shape))
limits = st.builds(
    LiveLimits, on=st.just(True), percent=st.floats(0.5, 25), load_limit=st.floats(20, 100), strength=st.floats(1, 100)
)


@given(wanted, wanted, limits, st.booleans())
def test_a_step_stays_within_every_bound(now, goal, held, flipped):
    table = TABLES[flipped]
    now, goal = (now.T, goal.T) if flipped else (now, goal)
    moved = next_step(table, now, goal, held)
    if moved is None:
        return
    within = bounded(table, now, held)
    most = held.percent / 100
    assert np.abs(moved - within).max() <= STEP_PERCENT / 100 + 1e-5
    assert np.abs(moved - 1).max() <= most + 1e-5
    high = load_shares(table) > held.load_limit / 100
    assert (moved[high] >= 1 - 1e-9).all()


@given(wanted, limits)
def test_no_looked_up_value_leans_at_load(goal, held):
    """Between a cell below the load limit and one above it the controller interpolates: nothing above may lean either."""
    factors = neutral(TABLE).factors
    for _ in range(20):
        moved = next_step(TABLE, factors, goal, held)
        if moved is None:
            break
        factors = moved
    overlay = TABLE.with_grid(factors)
    x, y = np.meshgrid(np.linspace(500, 7000, 60), np.linspace(held.load_limit, 190, 60))
    looked_up = overlay.lookup(x.ravel(), y.ravel())
    assert (looked_up >= 1 - 1e-9).all()


@given(wanted, limits)
def test_steps_come_to_an_end_at_the_bounded_goal(goal, held):
    factors = neutral(TABLE).factors
    steps = 0
    while (moved := next_step(TABLE, factors, goal, held)) is not None:
        factors, steps = moved, steps + 1
        assert steps <= 15
    assert factors == pytest.approx(bounded(TABLE, goal, held), abs=0.0011)


def test_cells_that_nothing_is_known_of_stay_as_they_are():
    goal = np.full(TABLE.shape, np.nan)
    goal[3, 3] = 1.05
    moved = next_step(TABLE, neutral(TABLE).factors, goal, LiveLimits(on=True))
    assert moved[3, 3] == pytest.approx(1.02)
    moved[3, 3] = 1.0
    assert (moved == 1.0).all()


def test_limits_drawn_in_take_back_what_lies_beyond_them():
    now = np.full(TABLE.shape, 1.08)
    moved = next_step(TABLE, now, now, LiveLimits(on=True, percent=3))
    assert moved.max() <= 1.03 + 1e-9


def test_on_a_curve_without_load_nothing_is_leaned():
    held = LiveLimits(on=True)
    if not load_shares(CURVE).any():
        assert lean_forbidden(CURVE, held).all()
    goal = np.full(CURVE.shape, 0.9)
    moved = next_step(CURVE, np.ones(CURVE.shape), goal, held)
    heavy = load_shares(CURVE) > held.load_limit / 100
    assert moved is None or (moved[heavy] >= 1).all()


def test_evidence_is_right_whatever_was_laid_over():
    """The same drive with and without an overlay asks for the same correction of the table that is in the car."""
    car = car_named("corvid-pike")
    found = []
    for factor in (None, 1.04):
        drive = LiveDrive(car, car.base(), "steady_cruise", 5)
        if factor is not None:
            drive.lay_over(np.full(TABLE.shape, factor).tolist(), "ve_main", 1)
        while drive.run.time < 240:
            drive.next_row()
        found.append(fuel_proposal([drive.recording()], drive.calibration, "ve_main", Policy(delay=(0.1, 1.0))))
    plain, laid = found
    both = plain.reached & laid.reached
    assert both.sum() > 8
    apart = (laid.estimate.factor - plain.estimate.factor)[both] * 100
    assert np.abs(apart).mean() < 0.5
    assert laid.evidence.parts.overlay.max() == pytest.approx(0.04, abs=1e-4)
