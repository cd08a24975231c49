"""The warm-up factor over coolant, from logs of warming."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log, Raster
from uchiwa.core.proposals.warm_up.explanation import explain
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.proposals.warm_up.proposal import warm_up_proposal
from uchiwa.core.proposals.warm_up.report import report
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen

POINTS = [-20.0, 0, 20, 40, 60, 80, 100]
CURVE = [160.0, 140, 122, 110, 104, 100, 100]


def calibration(curve: list[float] = CURVE, *, offset: bool = False) -> Calibration:
    axis = Axis("coolant_temperature", "degC", frozen(POINTS))
    tables = [Table("warm_up", "Warm-up factor", "warmup_factor", "%", axis, None, frozen(curve), 100, 250, 1)]
    if offset:
        cold = frozen([-0.1, -0.08, -0.06, -0.04, 0, 0, 0])
        tables.append(Table("cold", "Cold λ target", "cold_lambda_offset", "1", axis, None, cold, -0.3, 0, 3))
        flat = Axis("engine_speed", "rpm", frozen([500, 6000]))
        tables.append(Table("target", "λ target", "lambda_target", "1", flat, None, frozen([1.0, 1.0]), 0.6, 1.3, 3))
    return Calibration("c", "C", (), tuple(tables))


def warming(lean: float = 0.06, *, warm: float = 0.0, begin: float = 15.0, size: int = 6000, **changes: object) -> Log:
    """Ten minutes at 10 Hz, so much too lean below 60 °C, fading to `warm` at 80."""
    coolant = np.linspace(begin, 92, size)
    error = np.interp(coolant, [60, 80], [lean, 0.0]) + warm
    noise = 0.004 * np.random.default_rng(1).normal(size=size)
    usual = {
        "engine_speed": 1000.0 + 40 * np.sin(np.arange(size) / 300), "coolant_temperature": coolant,
        "throttle_position": 0.5, "lambda_target": 1.0, "lambda_measured": 1.0 * (1 + error) + noise,
        "short_term_trim": 0.0, "long_term_trim": 0.0, "after_start_active": (np.arange(size) < 200).astype(float),
        "manifold_pressure": 35.0,
    }  # fmt: skip
    return make_log(10.0, **{key: value for key, value in (usual | changes).items() if value is not None})


def test_reached_temperatures_take_the_error_and_colder_ones_stay_rich_of_the_trend():
    proposal = warm_up_proposal([warming()], calibration(), "warm_up", WarmUpPolicy())
    after = proposal.after[0]
    assert after[2:5] == pytest.approx(np.array(CURVE[2:5]) * 1.06, abs=0.9)
    assert after[0] >= 160 + 122 * 0.06
    assert after[1] >= 140 + 122 * 0.06
    assert (after[5:] == 100).all()
    assert (np.diff(after) <= 0).all()


def test_a_factor_that_is_too_rich_is_lowered_where_it_was_measured_and_nowhere_colder():
    after = warm_up_proposal([warming(-0.05)], calibration(), "warm_up", WarmUpPolicy()).after[0]
    assert after[3] == pytest.approx(110 * 0.95, abs=0.9)
    assert after[0] >= 160
    assert after[1] >= 140


def test_what_is_off_when_warm_is_the_airflow_models():
    both = warm_up_proposal([warming(0.06, warm=0.08)], calibration(), "warm_up", WarmUpPolicy())
    assert both.after[0, 3] == pytest.approx(110 * 1.14 / 1.08, abs=1.0)
    assert any("airflow model's" in note for note in both.notes)
    cold = warm_up_proposal([warming(begin=15, coolant_temperature=np.linspace(15, 55, 6000))], calibration(), "warm_up", WarmUpPolicy())  # fmt: skip
    assert any("no log reaches a warm engine" in note for note in cold.notes)


def test_trims_belong_to_the_error_once_the_loop_is_closed():
    log = warming(0.0, short_term_trim=np.interp(np.linspace(15, 92, 6000), [60, 80], [6.0, 0.0]))
    after = warm_up_proposal([log], calibration(), "warm_up", WarmUpPolicy()).after[0]
    assert after[3] == pytest.approx(110 * 1.06, abs=0.9)


def test_after_start_is_shown_and_left_out():
    measured = np.where(np.arange(6000) < 200, 0.8, 1.06) + 0.004 * np.random.default_rng(2).normal(size=6000)
    proposal = warm_up_proposal([warming(lambda_measured=measured)], calibration(), "warm_up", WarmUpPolicy())
    (shown,) = proposal.evidence.after_starts
    assert shown.seconds == pytest.approx(20, abs=0.3)
    assert shown.richest == pytest.approx(0.2, abs=0.03)
    assert proposal.evidence.left_out()["after_start"] == pytest.approx(210, abs=12)


def test_a_sensor_that_has_not_moved_yet_is_still_cold():
    measured = warming().rasters[0].channels
    values = next(one.values for one in measured if one.quantity == "lambda_measured").copy()
    values[:900] = 1.0
    proposal = warm_up_proposal([warming(lambda_measured=values)], calibration(), "warm_up", WarmUpPolicy())
    assert proposal.evidence.left_out()["cold_sensor"] == 900


def test_a_logged_target_without_the_cold_offset_gets_it():
    told = calibration(offset=True)
    offset = np.interp(np.linspace(15, 92, 6000), POINTS, [-0.1, -0.08, -0.06, -0.04, 0, 0, 0])
    cold = warming(lambda_measured=(1 + offset) * 1.05, lambda_target=1 + offset)
    warm_only = warming(lambda_measured=(1 + offset) * 1.05, lambda_target=1.0)
    for log, said in ((cold, False), (warm_only, True)):
        proposal = warm_up_proposal([log], told, "warm_up", WarmUpPolicy(limit_percent=30))
        assert any("cold offset is added" in note for note in proposal.notes) is said
        assert proposal.evidence.error[3000] == pytest.approx(1.05, abs=0.005)


def test_several_starts_are_put_together_in_any_order():
    logs = [warming(0.05), warming(0.07, begin=-5.0)]
    one = warm_up_proposal(logs, calibration(), "warm_up", WarmUpPolicy())
    other = warm_up_proposal(logs[::-1], calibration(), "warm_up", WarmUpPolicy())
    assert (one.after == other.after).all()
    assert one.moved.reached[1]


def test_nothing_changes_without_strength_and_pins_hold():
    still = warm_up_proposal([warming()], calibration([*CURVE[:5], 103, 101]), "warm_up", WarmUpPolicy(strength=0))
    assert (still.after[0] == [*CURVE[:5], 103, 101]).all()
    pinned = warm_up_proposal([warming()], calibration(), "warm_up", WarmUpPolicy(pinned=((3, 0),)))
    assert pinned.after[0, 3] == 110


def test_a_warm_factor_that_is_not_a_hundred_becomes_it_and_that_is_said():
    proposal = warm_up_proposal([warming()], calibration([*CURVE[:5], 104, 104]), "warm_up", WarmUpPolicy())
    assert (proposal.after[0, 5:] == 100).all()
    assert any("fuel table has to make up" in note for note in proposal.notes)


def test_a_value_explains_itself_and_the_report_accounts_for_every_sample():
    proposal = warm_up_proposal([warming()], calibration(), "warm_up", WarmUpPolicy())
    account = explain(proposal, 3)
    assert account.error == pytest.approx(0.06, abs=0.01)
    assert account.steps[0].value == 110
    assert account.steps[-1].value == account.after
    assert [step.words for step in explain(proposal, 6).steps][1] == "warm: exactly 100 %"
    told = report(proposal)
    assert told["samples_used"] + sum(told["samples_left_out"].values()) == told["samples"]
    assert told["after_start"][0]["seconds"] == pytest.approx(20, abs=0.3)


def test_a_falling_coolant_is_said():
    odd = np.concatenate([np.linspace(20, 70, 3000), np.linspace(70, 30, 3000)])
    assert any("falls by" in note for note in warm_up_proposal([warming(coolant_temperature=odd)], calibration(), "warm_up", WarmUpPolicy()).notes)  # fmt: skip


def without(log: Log, quantity: str) -> Log:
    return Log(log.name, (Raster(log.rasters[0].time, tuple(channel for channel in log.rasters[0].channels if channel.quantity != quantity)),))  # fmt: skip


@pytest.mark.parametrize(
    ("log", "words"),
    [
        (without(warming(), "coolant_temperature"), "no coolant temperature"),
        (without(warming(), "lambda_measured"), "no measured mixture"),
        (without(warming(), "lambda_target"), "tells the λ target"),
        (warming(begin=84), "begin with a warm engine"),
        (warming(lambda_measured=1.0), "sensor never came alive"),
        (warming(engine_speed=200.0), "stalled after its start"),
        (warming(after_start_active=1.0), "never ended"),
    ],
)
def test_what_cannot_be_told_is_one_sentence(log, words):
    with pytest.raises(BadInput, match=words):
        warm_up_proposal([log], calibration(), "warm_up", WarmUpPolicy())
