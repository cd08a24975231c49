"""Two banks made one, worked by hand."""

from __future__ import annotations

import numpy as np
import pytest

from uchiwa.core.evidence.conditions import Limits
from uchiwa.core.evidence.quantisation import quantum
from uchiwa.core.proposals.fuel.banks import difference, joined, mixture, trim

SIZE = 200
TIME = np.arange(SIZE) * 0.1
WAVE = 1.0 + 0.02 * np.sin(TIME)


def test_one_bank_speaks_alone_moved_by_half_of_the_usual_difference():
    one, two = WAVE.copy(), WAVE + 0.04
    one[50:60], two[80:90] = np.nan, np.nan
    told = joined(one, two, (one, two), "the mixture")
    assert told.values == pytest.approx(WAVE + 0.02)
    assert told.notes == ()


@pytest.mark.parametrize("dead", [np.full(SIZE, 1.0), np.full(SIZE, np.nan)])
def test_a_bank_that_never_moves_is_left_out_and_said(dead):
    told = joined(WAVE, dead, (WAVE, dead), "the mixture")
    assert told.values == pytest.approx(WAVE)
    assert told.notes == ("the mixture of bank 2 never moved: it was left out",)
    told = joined(dead, WAVE, (dead, WAVE), "the mixture")
    assert told.values == pytest.approx(WAVE)
    assert "bank 1" in told.notes[0]


def test_two_banks_that_both_stand_still_are_not_played_off_against_each_other():
    told = joined(np.full(SIZE, 1.0), np.full(SIZE, 1.1), (np.full(SIZE, 1.0), np.full(SIZE, 1.1)), "the mixture")
    assert told.values == pytest.approx(1.05)
    assert told.notes == ()


def test_a_bank_at_its_rail_is_gone_before_the_mean_and_for_a_moment_after():
    railed = WAVE.copy()
    railed[100:110] = 1.31
    told = mixture(TIME, {"lambda_measured": WAVE, "lambda_measured_2": railed}, Limits(), rails=True)
    assert told.values == pytest.approx(WAVE)
    assert told.raw[105] == pytest.approx((WAVE[105] + 1.31) / 2)
    kept = mixture(TIME, {"lambda_measured": WAVE, "lambda_measured_2": railed}, Limits(), rails=False)
    assert kept.values[105] == pytest.approx((WAVE[105] + 1.31) / 2)
    assert mixture(TIME, {}, Limits(), rails=True) is None


def test_trims_are_fractions_and_the_banks_differ_by_their_whole_error():
    rng = np.random.default_rng(1)
    short, other = rng.normal(0, 2, (2, SIZE))
    told = trim({"short_term_trim": short, "short_term_trim_2": other}, "short_term_trim")
    assert told.values == pytest.approx((short + other) / 200)
    assert trim({}, "long_term_trim") is None
    signals = {
        "lambda_measured": WAVE, "lambda_measured_2": WAVE * 1.02,
        "short_term_trim": np.zeros(SIZE), "short_term_trim_2": np.full(SIZE, 5.0),
    }  # fmt: skip
    assert difference(signals, short=True, long=False) == pytest.approx(np.full(SIZE, 1.02 * 1.05 - 1))
    assert difference(signals, short=False, long=False) == pytest.approx(np.full(SIZE, 0.02))
    assert difference({"lambda_measured": WAVE}, short=False, long=False) is None


@pytest.mark.parametrize("step", [0.004, 0.0625, 1.0])
def test_the_steps_of_a_channel_are_told(step):
    smooth = np.random.default_rng(3).normal(0, 8 * step, 4000)
    assert quantum(np.round(smooth / step) * step) == pytest.approx(step, rel=1e-3)
    assert quantum(smooth) == 0.0
    assert quantum(np.repeat([1.0, 2.0], 300)) == 0.0
    assert quantum(np.empty(0)) == 0.0
