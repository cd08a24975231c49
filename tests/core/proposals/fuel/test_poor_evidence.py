"""Axes and logs that a proposal can do little with: it says what it can, and invents nothing."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.core.proposals.fuel.evidence import QUANTITIES
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.tables.table import frozen
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate

SIZE = 3000
PIKE = car_named("corvid-pike")
ESTIMATORS = ("nearest", "weighted", "surface")


def a_drive(**more):
    rng, at = np.random.default_rng(1), np.arange(SIZE)
    lean = 1.03 + rng.normal(0, 0.01, SIZE)
    told = {"engine_speed": 2000 + 1500 * np.sin(at / 90), "manifold_pressure": 60 + 25 * np.sin(at / 37)}
    usual = {"coolant_temperature": 90.0, "lambda_measured": lean, "lambda_target": 1.0}
    return make_log(20.0, "drive.csv", **(told | usual | more))


def crowded(place):
    """A base whose airflow table has two breakpoints 0.01 apart on either axis."""
    table = pike_base().table("ve_main")
    for name in ("x", "y"):
        axis = getattr(table, name)
        points = axis.breakpoints.copy()
        points[place] = points[place - 1] + 0.01
        table = replace(table, **{name: replace(axis, breakpoints=frozen(points))})
    return pike_base().with_table(table)


@pytest.mark.parametrize("estimator", ESTIMATORS)
@pytest.mark.parametrize("place", [1, 4])
def test_breakpoints_that_nearly_touch_are_corrected_like_any(estimator, place):
    found = fuel_proposal([a_drive()], crowded(place), "ve_main", Policy(estimator=estimator))
    factor = found.corrected.grid / found.table.grid
    acted = found.corrected.grid != found.table.grid
    assert acted.sum() >= 10
    assert factor.min() >= 0.999
    assert np.quantile(factor[acted], 0.9) == pytest.approx(1.03, abs=0.01)
    assert factor.max() <= 1.045


@pytest.mark.parametrize("estimator", ESTIMATORS)
@pytest.mark.parametrize("reading", [0.65, 1.6, np.nan])
def test_a_mixture_that_is_never_read_changes_nothing(estimator, reading):
    log = a_drive(lambda_measured=np.full(SIZE, reading))
    found = fuel_proposal([log], pike_base(), "ve_main", Policy(estimator=estimator))
    assert (found.corrected.grid == found.table.grid).all()


@pytest.mark.parametrize("estimator", ESTIMATORS)
def test_a_bank_that_is_dead_leaves_the_other_to_speak(estimator):
    alone = fuel_proposal([a_drive()], pike_base(), "ve_main", Policy(estimator=estimator))
    log = a_drive(lambda_measured_2=np.full(SIZE, 1.6))
    beside = fuel_proposal([log], pike_base(), "ve_main", Policy(estimator=estimator))
    assert (beside.corrected.grid == alone.corrected.grid).all()


@pytest.mark.parametrize("estimator", ESTIMATORS)
def test_a_lean_engine_is_not_taken_for_overrun(estimator):
    rng = np.random.default_rng(4)
    for throttle in (15.0, np.where(np.arange(SIZE) % 400 < 40, 60.0, 15.0)):
        log = a_drive(
            throttle_position=throttle, manifold_pressure=75.0, lambda_measured=1.22 + rng.normal(0, 0.005, SIZE)
        )
        found = fuel_proposal([log], pike_base(), "ve_main", Policy(estimator=estimator, limit_percent=60))
        assert found.evidence.left_out()["overrun"] == 0
        assert (found.corrected.grid > 1.05 * found.table.grid).any()


def test_evidence_rests_on_nothing_but_the_quantities_it_names():
    whole = simulate(PIKE, PIKE.base(), "mixed_road", seed=21)
    named = tuple(channel for channel in whole.rasters[0].channels if channel.quantity in QUANTITIES)
    part = replace(whole, rasters=(replace(whole.rasters[0], channels=named),))
    one, other = (fuel_proposal([log], PIKE.base(), "ve_main", Policy()) for log in (whole, part))
    assert np.array_equal(one.estimate.factor, other.estimate.factor, equal_nan=True)
