"""The fuel proposal: hand-worked numbers, then properties that must hold for any logs."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.fuel import fuel_proposal, summarise
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.proposals.report import report
from uchiwa.core.proposals.why import explain
from uchiwa.core.table import Calibration

STILL = {"delay": (0.0, 0.0), "unreached": "leave", "dead_band_percent": 0.0}


def propose(logs, calibration, where=(), **policy):
    return fuel_proposal(logs, calibration, "ve_main", Policy(**(STILL | policy)), where)


def test_the_error_is_measured_over_target_times_both_trims(steady, calibration):
    # e = (1.02/1.00)·(1 + 0.04)·(1 − 0.01) = 1.050192, so 50 % becomes 52.5 % (one decimal).
    log = steady(lambda_measured=1.02, short_term_trim=4.0, long_term_trim=-1.0)
    proposal = propose([log], calibration, estimator="nearest")
    assert proposal.bins.mean[0, 1] == pytest.approx(1.050192)
    assert proposal.correction.after[0, 1] == 52.5
    assert proposal.correction.state[0, 1] == "changed"
    assert (proposal.correction.after != 50.0).sum() == 1


def test_an_open_loop_sample_counts_against_its_own_target(steady, calibration):
    log = steady(lambda_measured=0.88, lambda_target=0.80)
    assert propose([log], calibration).bins.mean[0, 1] == pytest.approx(1.1)


@pytest.mark.parametrize(("use", "error"), [("both", 1.02 * 1.04 * 0.99), ("long", 1.02 * 0.99), ("none", 1.02)])
def test_trims_count_as_told(steady, calibration, use, error):
    log = steady(lambda_measured=1.02, short_term_trim=4.0, long_term_trim=-1.0)
    assert propose([log], calibration, use_trims=use).bins.mean[0, 1] == pytest.approx(error)


def test_without_a_sensor_only_closed_loop_samples_count(steady, calibration):
    loop = np.zeros(100)
    loop[:60] = 1
    log = make_log(
        engine_speed=np.full(100, 2000.0),
        manifold_pressure=40.0,
        short_term_trim=3.0,
        long_term_trim=1.0,
        loop_state=loop,
    )
    proposal = propose([log], calibration)
    assert proposal.bins.mean[0, 1] == pytest.approx(1.03 * 1.01)
    assert proposal.evidence.left_out()["open_loop"] == 40


def test_two_banks_are_averaged(steady, calibration):
    log = steady(short_term_trim=2.0, short_term_trim_2=6.0)
    assert propose([log], calibration).bins.mean[0, 1] == pytest.approx(1.04)


@pytest.mark.parametrize(
    ("policy", "after", "state"),
    [
        ({"strength": 50}, 52.5, "changed"),
        ({"limit_percent": 4}, 52.0, "limited"),
        ({"dead_band_percent": 11}, 50.0, "kept"),
        ({"rich_bias_percent": 2}, 56.1, "changed"),
        ({"minimum_samples": 101}, 50.0, "thin"),
        ({"minimum_dwell_s": 5.1}, 50.0, "thin"),
        ({"pinned": ((1, 0),)}, 50.0, "pinned"),
        ({"only": ((0, 0),)}, 50.0, "kept"),
        ({"only": ((1, 0),)}, 55.0, "changed"),
        ({"strength": 0}, 50.0, "kept"),
    ],
)
def test_a_policy_does_what_it_says(steady, calibration, policy, after, state):
    proposal = propose([steady(lambda_measured=1.1)], calibration, estimator="nearest", **policy)
    assert proposal.correction.after[0, 1] == pytest.approx(after)
    assert proposal.correction.state[0, 1] == state


def test_the_tables_own_limits_hold(steady):
    table = make_table([[50.0] * 3, [50.0] * 3], limits=(0, 53))
    proposal = propose([steady(lambda_measured=1.1)], Calibration("c", "C", (), (table,)), estimator="nearest")
    assert proposal.correction.after[0, 1] == 53.0
    assert proposal.correction.state[0, 1] == "limited"
    assert "held by the table's own limits" in [step.words for step in explain(proposal, 0, 1).steps]


def test_unreached_cells_fade_or_are_carried(steady, calibration):
    log = steady(lambda_measured=1.08)
    faded = propose([log], calibration, estimator="nearest", unreached="fade").correction
    carried = propose([log], calibration, estimator="nearest", unreached="carry").correction
    assert carried.factor == pytest.approx(np.full((2, 3), 1.08))
    # One cell away three quarters of the change are left, diagonally 1 − √2/4.
    assert faded.factor[0, 0] == pytest.approx(1 + 0.08 * 0.75)
    assert faded.factor[1, 0] == pytest.approx(1 + 0.08 * (1 - np.sqrt(2) / 4))
    assert faded.state[1, 0] == "filled"


def test_smoothing_stays_within_the_changed_cells(steady, calibration):
    logs = [
        steady(engine_speed=np.full(100, speed), lambda_measured=mixture)
        for speed, mixture in ((1000.0, 1.0), (2000.0, 1.1), (3000.0, 1.04))
    ]
    factor = propose(logs, calibration, estimator="nearest", smoothing=50, dead_band_percent=0.5).correction.factor
    # 1000 rpm is in the dead band: it neither moves nor counts. 2000: half of 1.10 and half of 1.04.
    assert factor[0].tolist() == pytest.approx([1.0, 1.07, 1.07])


def test_own_conditions_are_counted(steady, calibration):
    pedal = np.linspace(0, 100, 100)
    proposal = propose([steady(pedal_position=pedal)], calibration, where=["pedal_position < 50"])
    assert proposal.evidence.left_out()["pedal_position < 50"] == 50


def test_a_rule_can_be_switched_off(steady, calibration):
    log = steady(coolant_temperature=50.0)
    assert propose([log], calibration).evidence.sieve.used.sum() == 0
    assert propose([log], calibration, without=("cold",)).evidence.sieve.used.sum() == 100


@pytest.mark.parametrize(
    ("missing", "said"),
    [
        ("manifold_pressure", "no intake pressure"),
        ("lambda_target", "no λ target"),
    ],
)
def test_a_log_without_a_needed_channel_is_named(steady, calibration, missing, said):
    whole = steady()
    kept = tuple(channel for channel in whole.rasters[0].channels if channel.quantity != missing)
    log = type(whole)("short.csv", (type(whole.rasters[0])(whole.rasters[0].time, kept),))
    with pytest.raises(BadInput, match=f"short.csv: the log has .*{said.split(' ', 1)[1]}"):
        propose([log], calibration)


def test_no_log_no_table_and_wrong_role(steady, calibration):
    with pytest.raises(BadInput, match="no log"):
        propose([], calibration)
    with pytest.raises(BadInput, match="its tables are: ve_main"):
        fuel_proposal([steady()], calibration, "nope", Policy())


def test_the_delay_is_found_and_taken_back(calibration):
    rng = np.random.default_rng(3)
    time = np.arange(4000) / 20
    trim = np.repeat(rng.uniform(-0.06, 0.06, 100), 40)
    # The mixture answers each step of the trim 0.4 s later; at combustion e is 1.03 throughout.
    answer = np.interp(time - 0.4, time, 1.03 / (1 + trim))
    log = make_log(
        engine_speed=np.full(4000, 2000.0), manifold_pressure=60.0, coolant_temperature=90.0, throttle_position=10.0,
        lambda_measured=answer, lambda_target=1.0, short_term_trim=trim * 100, long_term_trim=0.0,
    )  # fmt: skip
    plain = Calibration("c", "C", (), calibration.tables)
    proposal = fuel_proposal([log], plain, "ve_main", Policy())
    assert proposal.evidence.delay.d0 == pytest.approx(0.4, abs=0.03)
    assert proposal.evidence.delay_gain > 0.9
    assert proposal.bins.spread[0, 1] < 0.004


def test_pressure_ratio_axis_comes_from_two_pressures(steady, table):
    from dataclasses import replace

    from uchiwa.core.table import Axis, frozen

    ratio = replace(table, y=Axis("pressure_ratio", "1", frozen([0.4, 0.8])))
    log = steady(barometric_pressure=100.0, lambda_measured=1.05)
    proposal = propose([log], Calibration("c", "C", (), (ratio,)), estimator="nearest")
    assert proposal.bins.mean[0, 1] == pytest.approx(1.05)


def test_axis_units_are_converted(steady, table):
    from dataclasses import replace

    from uchiwa.core.table import Axis, frozen

    psi = replace(table, y=Axis("manifold_pressure", "psi", frozen([5.8015, 11.603])))
    proposal = propose([steady(lambda_measured=1.05)], Calibration("c", "C", (), (psi,)), estimator="nearest")
    assert proposal.bins.samples[0, 1] == 100


def test_summary_weighs_by_dwell(steady, calibration):
    logs = [steady(size=300, lambda_measured=1.01), steady(engine_speed=np.full(100, 3000.0), lambda_measured=1.05)]
    proposal = propose(logs, calibration, estimator="nearest")
    summary = summarise(proposal.bins, proposal.policy)
    assert summary is not None
    assert summary.rms_percent == pytest.approx(np.sqrt((3 * 1 + 1 * 25) / 4))
    assert (summary.cells, summary.within) == (2, 1)


# --- properties -------------------------------------------------------------------------------------------------

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
@given(drives, st.sampled_from(["nearest", "weighted"]), st.sampled_from(["leave", "fade", "carry"]))
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
    one = propose([random_log(np.random.default_rng(seed))], GRID)
    other = propose([random_log(np.random.default_rng(seed), scale=scale)], GRID)
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
@given(drives, st.sampled_from(["nearest", "weighted"]))
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


def test_the_arithmetic_leads_from_error_to_factor(steady, calibration):
    log = steady(lambda_measured=1.1, short_term_trim=1.0)
    proposal = propose([log], calibration, estimator="nearest", strength=50, limit_percent=5)
    steps = {step.words: step.value for step in explain(proposal, 0, 1).steps}
    assert steps["measured λ over target, mean"] == pytest.approx(1.1)
    assert steps["short-term trim, mean"] == pytest.approx(1.0)
    assert steps["error in this cell"] == pytest.approx(11.1)
    assert steps["at 50 % strength"] == pytest.approx(5.55)
    assert steps["held to ±5 % a round"] == pytest.approx(5.0)


@pytest.mark.parametrize(
    ("raw", "said"),
    [
        ({"strenght": 50}, "strenght: this key is not known; the keys are estimator"),
        ({"strength": 120}, "strength: input should be less than or equal to 100"),
        ({"estimator": "best"}, "estimator: input should be 'nearest' or 'weighted'"),
        ({"without": ["fun"]}, "“fun” is not a rule"),
        ({"strength": float("nan")}, "strength"),
        ([], "the file"),
    ],
)
def test_a_bad_policy_is_said(raw, said):
    with pytest.raises(BadInput) as error:
        Policy.read(raw)
    assert said in str(error.value)
