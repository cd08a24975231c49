"""Fuel proposals: properties that must hold for any logs."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from tests.core.proposals.fuel.proposing import propose
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.proposals.fuel.report import report
from uchiwa.core.tables.table import Calibration

drives = st.integers(0, 10_000).map(np.random.default_rng)


def random_log(rng, size=400, scale=1.0):
    return make_log(
        engine_speed=np.interp(np.arange(size), np.arange(0, size + 40, 40), rng.uniform(800, 3200, size // 40 + 1)),
        manifold_pressure=np.interp(np.arange(size), np.arange(0, size + 40, 40), rng.uniform(30, 90, size // 40 + 1)),
        coolant_temperature=rng.uniform(70, 95),
        throttle_position=15.0,
        lambda_measured=scale * rng.normal(1.03, 0.02, size),
        lambda_target=1.0,
        short_term_trim=rng.normal(0, 2, size),
        long_term_trim=1.0,
    )


GRID = Calibration("c", "C", (), (make_table([[50.0, 60.0, 70.0], [55.0, 65.0, 75.0]]),))


@settings(max_examples=25)
@given(
    drives, st.sampled_from(["nearest", "weighted", "surface"]), st.sampled_from(["leave", "fade", "carry", "surface"])
)
def test_strength_zero_changes_nothing(rng, estimator, unreached):
    proposal = propose([random_log(rng)], GRID, estimator=estimator, unreached=unreached, strength=0, smoothing=50)
    assert np.array_equal(proposal.correction.after, proposal.table.grid)


@settings(max_examples=25)
@given(drives, st.floats(0, 15), st.lists(st.tuples(st.integers(0, 2), st.integers(0, 1)), max_size=4))
def test_limits_and_pins_hold(rng, limit, pins):
    proposal = propose([random_log(rng)], GRID, limit_percent=limit, pinned=tuple(pins), unreached="fade", smoothing=30)
    before, after = proposal.table.grid, proposal.correction.after
    assert (np.abs(after - before) <= before * limit / 100 + 0.05 + 1e-9).all()
    for i, j in pins:
        assert after[j, i] == before[j, i]
        assert proposal.correction.state[j, i] == "pinned"


@settings(max_examples=25)
@given(drives, st.lists(st.tuples(st.integers(0, 2), st.integers(0, 1)), max_size=5))
def test_cells_not_chosen_never_change(rng, only):
    proposal = propose([random_log(rng)], GRID, only=tuple(only), unreached="carry")
    moved = proposal.correction.after != proposal.table.grid
    for j, i in zip(*moved.nonzero(), strict=True):
        assert (i, j) in only


@settings(max_examples=25)
@given(drives, st.floats(0.9, 1.1))
def test_scaling_all_errors_scales_the_factors(rng, scale):
    seed = int(rng.integers(1e9))
    one = propose([random_log(np.random.default_rng(seed))], GRID, transients="none")
    other = propose([random_log(np.random.default_rng(seed), scale=scale)], GRID, transients="none")
    both = (one.bins.samples > 0) & np.isfinite(other.bins.mean)
    assert other.bins.mean[both] == pytest.approx(one.bins.mean[both] * scale)


@settings(max_examples=20)
@given(drives)
def test_the_order_of_logs_does_not_matter(rng):
    logs = [random_log(rng) for _ in range(3)]
    one = propose(logs, GRID)
    other = propose(logs[::-1], GRID)
    assert np.array_equal(one.correction.after, other.correction.after)
    assert one.evidence.left_out() == other.evidence.left_out()


@settings(max_examples=25)
@given(drives, st.sampled_from(["nearest", "weighted", "surface"]))
def test_every_sample_is_accounted_for(rng, estimator):
    log = random_log(rng)
    proposal = propose([log], GRID, estimator=estimator)
    data = report(proposal)
    assert data["samples"] == 400
    assert data["samples_used"] + sum(data["samples_left_out"].values()) == 400
    assert sum(cell["samples"] for cell in data["cells"]) == pytest.approx(data["samples_used"], abs=0.01)
    for j in range(2):
        for i in range(3):
            account = explain(proposal, j, i)
            assert sum(share.samples for share in account.logs) == pytest.approx(account.samples, abs=1e-6)
            assert sum(share.visits for share in account.logs) == account.visits
            assert account.after == proposal.correction.after[j, i]
