import numpy as np
import pytest

from uchiwa.core.evidence.conditions import RULES, Limits, Samples, sentence_of, sift, title_of
from uchiwa.core.logs.signal import durations, held, rate, smooth

TIME = np.arange(100) / 20


def found(rule_id, settle=1.0, **signals):
    rule = next(one for one in RULES if one.id == rule_id)
    return rule.finds(
        Samples(TIME, {key: np.broadcast_to(value, TIME.shape) for key, value in signals.items()}, Limits(), settle)
    )


def test_rate_of_a_ramp():
    assert rate(TIME, 30.0 * TIME)[10:-10] == pytest.approx(30.0)
    assert np.isnan(rate(TIME, np.full(100, np.nan))).all()


def test_smooth_keeps_gaps():
    values = np.ones(100)
    values[50] = np.nan
    out = smooth(TIME, values, 0.5)
    assert np.isnan(out[50])
    assert out[49] == 1.0


def test_held_lasts_as_long_as_said():
    active = np.zeros(100, dtype=bool)
    active[40] = True
    assert np.flatnonzero(held(TIME, active, 0.25)).tolist() == [40, 41, 42, 43, 44, 45]


def test_a_sample_does_not_stand_for_a_gap():
    time = np.array([0.0, 0.1, 0.2, 5.2, 5.3])
    assert durations(time) == pytest.approx([0.1] * 5)


def test_cold_and_unknown_coolant_are_left_out():
    coolant = np.full(100, 79.9)
    coolant[50:] = 80.0
    coolant[99] = np.nan
    assert found("cold", coolant_temperature=coolant).sum() == 51
    assert not found("cold").any()


def test_overrun_and_the_second_after_it():
    flag = np.zeros(100)
    flag[20:30] = 1
    assert np.flatnonzero(found("overrun", overrun_cut_active=flag)).tolist() == list(range(20, 50))


def test_overrun_from_the_injector_pulse_where_there_is_no_flag():
    pulse = np.full(100, 2.0)
    pulse[20:30] = 0.0
    assert found("overrun", injector_pulse=pulse).sum() == 30


def test_rail_at_both_ends():
    mixture = np.ones(100)
    mixture[10], mixture[60] = 0.68, 1.36
    hit = found("rail", lambda_measured=mixture)
    assert hit[10] and hit[15] and not hit[20] and hit[60] and not hit[9]


def test_a_fast_throttle_and_the_time_to_settle():
    throttle = np.where(TIME < 2.0, 10.0, 40.0)
    hit = found("transient", settle=0.5, throttle_position=throttle)
    assert not hit[30] and hit[40] and hit[50] and not hit[60]
    assert not found("transient", throttle_position=10 + 2 * TIME).any()


def test_each_sample_has_one_verdict():
    a = np.array([True, True, False, False])
    b = np.array([True, False, True, False])
    sieve = sift([("a", a), ("b", b)], 4)
    assert sieve.verdict.tolist() == [0, 0, 1, -1]
    assert sieve.used.tolist() == [False, False, False, True]


def test_every_reason_has_words():
    for reason in [*(rule.id for rule in RULES), "missing", "outside", "open_loop"]:
        assert title_of(reason) and sentence_of(reason).endswith(".")
    assert title_of("engine_speed > 2000") == "not engine_speed > 2000"
