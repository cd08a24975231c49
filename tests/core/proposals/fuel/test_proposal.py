"""The fuel proposal: hand-worked numbers, then properties that must hold for any logs."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import make_log, make_table
from tests.core.proposals.fuel.proposing import STILL, propose
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal, summarise
from uchiwa.core.tables.table import Calibration


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
    # A cell alone fades over two: one cell away half of the change is left, diagonally 1 − √2/2.
    assert faded.factor[0, 0] == pytest.approx(1 + 0.08 * 0.5)
    assert faded.factor[1, 0] == pytest.approx(1 + 0.08 * (1 - np.sqrt(2) / 2))
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
    assert proposal.evidence.delay_gain.share > 0.8
    assert proposal.evidence.delay_gain.sure
    assert proposal.bins.spread[0, 1] < 0.004


def test_pressure_ratio_axis_comes_from_two_pressures(steady, table):
    from dataclasses import replace

    from uchiwa.core.tables.table import Axis, frozen

    ratio = replace(table, y=Axis("pressure_ratio", "1", frozen([0.4, 0.8])))
    log = steady(barometric_pressure=100.0, lambda_measured=1.05)
    proposal = propose([log], Calibration("c", "C", (), (ratio,)), estimator="nearest")
    assert proposal.bins.mean[0, 1] == pytest.approx(1.05)


def test_axis_units_are_converted(steady, table):
    from dataclasses import replace

    from uchiwa.core.tables.table import Axis, frozen

    psi = replace(table, y=Axis("manifold_pressure", "psi", frozen([5.8015, 11.603])))
    proposal = propose([steady(lambda_measured=1.05)], Calibration("c", "C", (), (psi,)), estimator="nearest")
    assert proposal.bins.samples[0, 1] == 100


def test_summary_weighs_by_dwell(steady, calibration):
    logs = [steady(size=300, lambda_measured=1.01), steady(engine_speed=np.full(100, 3000.0), lambda_measured=1.05)]
    proposal = propose(logs, calibration, estimator="nearest")
    summary = summarise(proposal)
    assert summary is not None
    assert summary.rms_percent == pytest.approx(np.sqrt((3 * 1 + 1 * 25) / 4))
    assert (summary.cells, summary.within) == (2, 1)


def test_unreached_cells_follow_the_surface_as_far_as_it_is_sure(steady):
    table = make_table([[50.0] * 3, [50.0] * 3])
    logs = [
        steady(engine_speed=np.full(300, speed), lambda_measured=mixture + np.tile([-0.002, 0.002], 150))
        for speed, mixture in ((1000.0, 1.02), (2000.0, 1.04))
    ]
    found = propose(logs, Calibration("c", "C", (), (table,)), unreached="surface").correction
    assert 1.01 < found.factor[0, 2] < 1.06
    assert found.state[0, 2] == "filled"
    assert 1.0 < found.factor[1, 2] < found.factor[0, 2]


def test_a_narrow_window_counts_only_what_is_near_the_point(steady, calibration):
    log = steady(engine_speed=np.repeat([2000.0, 2400.0], 50), lambda_measured=np.repeat([1.05, 1.15], 50))
    still = {"delay": (0.0, 0.0), "without": ("transient",), "estimator": "nearest", "transients": "none"}
    assert propose([log], calibration, **still).bins.mean[0, 1] == pytest.approx(1.10)
    narrow = propose([log], calibration, window_percent=50, **still)
    assert narrow.bins.mean[0, 1] == pytest.approx(1.05)
    assert narrow.bins.samples[0, 1] == 50


def test_weighted_takes_back_most_of_what_averaging_smears():
    # The error falls from 10 % at 1000 rpm to none at 2000: plain weighted means draw both ends together.
    table = make_table([[50.0] * 3, [50.0] * 3])
    speed = np.linspace(1000, 2000, 2001)
    log = make_log(
        engine_speed=speed, manifold_pressure=40.0, coolant_temperature=90.0, throttle_position=12.0,
        lambda_measured=1.1 - 0.1 * (speed - 1000) / 1000, lambda_target=1.0,
    )  # fmt: skip
    found = propose([log], Calibration("c", "C", (), (table,)), estimator="weighted", transients="none")
    # A mean with falling weights over a line from 1.1 to 1.0 lies a third in: 1.0667; the second pass adds 0.0111.
    assert found.bins.mean[0, 0] == pytest.approx(1.1 - 0.1 / 3, abs=1e-4)
    assert found.estimate.factor[0, 0] == pytest.approx(1.0667 + 0.0111, abs=1e-3)


@pytest.mark.parametrize(
    ("loop", "used", "reason"), [("any", 100, None), ("closed", 60, "open_loop"), ("open", 40, "closed_loop")]
)
def test_only_one_state_of_the_loop_counts_if_asked(steady, calibration, loop, used, reason):
    state = np.zeros(100)
    state[:60] = 1
    found = propose([steady(loop_state=state)], calibration, loop=loop).evidence
    assert found.sieve.used.sum() == used
    assert reason is None or found.left_out()[reason] == 100 - used


def test_a_loop_state_that_was_not_recorded_is_asked_for(steady, calibration):
    whole = steady()
    kept = tuple(channel for channel in whole.rasters[0].channels if channel.quantity != "loop_state")
    log = type(whole)("drive.csv", (type(whole.rasters[0])(whole.rasters[0].time, kept),))
    with pytest.raises(BadInput, match="does not say when the loop was closed"):
        propose([log], calibration, loop="closed")


def test_cells_without_a_target_take_no_correction(steady, table):
    from dataclasses import replace

    targets = replace(table, id="lt", role="lambda_target", unit="1", values=table.values * 0 + 0.9, decimals=3)
    some = targets.with_grid(np.array([[0.9, 0.9, 0.0], [0.9, 0.9, 0.0]]))
    calibration = Calibration("c", "C", (), (table, some))
    seen = propose([steady(lambda_measured=0.99)], calibration, target="table", estimator="nearest")
    assert seen.bins.mean[0, 1] == pytest.approx(1.1)
    nothing = propose([steady(engine_speed=np.full(100, 2900.0))], calibration, target="table")
    assert nothing.evidence.left_out()["no_target"] == 100
    assert np.array_equal(nothing.correction.after, table.grid)


def test_several_tables_take_only_what_was_measured_while_they_were_used(steady, table):
    from dataclasses import replace

    calibration = Calibration("c", "C", (), (table, replace(table, id="ve_high", title="VE, high cam")))
    logs = [
        steady(engine_speed=np.full(100, 2000.0), lambda_measured=1.05),
        steady(engine_speed=np.full(100, 3000.0), lambda_measured=0.97),
    ]
    policy = Policy(**STILL, in_use={"ve_main": "engine_speed < 2500", "ve_high": "engine_speed >= 2500"})
    low, high = (fuel_proposal(logs, calibration, one, policy) for one in ("ve_main", "ve_high"))
    assert low.correction.factor[0] == pytest.approx([1, 1.05, 1], abs=2e-3)
    assert high.correction.factor[0] == pytest.approx([1, 1, 0.97], abs=2e-3)
    assert low.evidence.left_out()["not_in_use"] == high.evidence.left_out()["not_in_use"] == 100


def test_how_far_the_banks_differ_is_told(steady, calibration):
    log = steady(short_term_trim=2.0, short_term_trim_2=6.0)
    proposal = propose([log], calibration)
    assert explain(proposal, 0, 1).banks == pytest.approx(1.06 / 1.02 - 1)
    assert np.isnan(explain(propose([steady()], calibration), 0, 1).banks)


@pytest.mark.parametrize(
    ("rule", "signals", "left_out"),
    [
        ("heat_soaked", {"intake_air_temperature": np.repeat([25.0, 55.0], 50)}, 50),
        ("reversion", {"throttle_position": 5.0, "engine_speed": np.full(100, 3200.0)}, 100),
    ],
)
def test_further_rules_leave_out_what_they_say(steady, calibration, rule, signals, left_out):
    policy = Policy(**STILL).with_rule(rule, on=True)
    found = fuel_proposal([steady(**signals)], calibration, "ve_main", policy).evidence
    assert found.left_out()[rule] == left_out
    off = fuel_proposal([steady(**signals)], calibration, "ve_main", policy.with_rule(rule, on=False)).evidence
    assert off.left_out()[rule] == 0


def test_the_wall_film_is_found_and_taken_out(calibration):
    rng = np.random.default_rng(11)
    pressure = np.interp(np.arange(6000), np.arange(0, 6050, 50), rng.uniform(40, 80, 121))
    time = np.arange(6000) / 20
    lagged = np.empty(6000)
    lagged[0] = np.log(pressure[0])
    for k in range(1, 6000):
        lagged[k] = lagged[k - 1] + (1 - np.exp(-0.05 / 0.3)) * (np.log(pressure[k]) - lagged[k - 1])
    film = 0.08 * (np.log(pressure) - lagged)
    log = make_log(
        engine_speed=np.full(6000, 2000.0), manifold_pressure=pressure, coolant_temperature=90.0,
        lambda_measured=1.03 + film + 0.003 * rng.normal(size=time.size), lambda_target=1.0,
    )  # fmt: skip
    found = propose([log], calibration)
    assert found.evidence.transients[0].words == "wall film"
    # Which time it rests on is told badly by slow changes; what it does to them is the product.
    film = found.evidence.transients[0]
    assert film.slope * film.time_s == pytest.approx(0.08 * 0.3, rel=0.2)
    assert found.estimate.factor[:, 1] == pytest.approx([1.03, 1.03], abs=0.003)
    steps = [step.words for step in explain(found, 0, 1).steps]
    assert "wall film, taken out" in steps
    assert "the surface through all samples, here" in steps


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
        ({"estimator": "best"}, "estimator: input should be 'nearest', 'weighted' or 'surface'"),
        ({"without": ["fun"]}, "“fun” is not a rule"),
        ({"strength": float("nan")}, "strength"),
        ([], "the file"),
    ],
)
def test_a_bad_policy_is_said(raw, said):
    with pytest.raises(BadInput) as error:
        Policy.read(raw)
    assert said in str(error.value)
