"""Mixture delay on signals with a known answer; what spreads to unreached cells; curves and several logs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log, make_table
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.delay import Delay, undelayed
from uchiwa.core.evidence.delay_estimate import DelaySamples, estimate_delay
from uchiwa.core.evidence.gather import bins_of, gather_samples
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.proposals.fuel.filling import smoothed, spread_outwards
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen

TIME = np.arange(2000) / 25


def test_the_delay_falls_with_airflow():
    delay = Delay(0.05, 2.0)
    assert delay.seconds(np.array([2.0, 20.0, 200.0]), (3,)).tolist() == pytest.approx([1.05, 0.15, 0.06])
    assert delay.seconds(None, (2,)).tolist() == [0.05, 0.05]
    assert delay.seconds(np.array([np.nan, 0.0]), (2,)) == pytest.approx([0.05, 4.05])


@given(st.floats(0.0, 1.0))
def test_a_constant_delay_is_taken_back_exactly(seconds):
    burned = np.sin(TIME)
    read = np.sin(TIME - seconds)
    back = undelayed(TIME, read, np.full(TIME.shape, seconds))
    known = np.isfinite(back)
    assert known.sum() >= TIME.size - 27
    assert back[known] == pytest.approx(burned[known], abs=2e-3)


def test_readings_never_run_backwards_when_the_delay_jumps():
    delay = np.where(TIME < 40, 0.8, 0.05)
    back = undelayed(TIME, TIME.copy(), delay)
    known = back[np.isfinite(back)]
    assert (np.diff(known) >= -1e-9).all()


def driven(seed: int, size: int = 12_000):
    """Airflow, trims that step, and cells, at 25 Hz."""
    rng = np.random.default_rng(seed)
    time = np.arange(size) / 25
    airflow = np.interp(time, np.arange(0, time[-1] + 10, 10), rng.uniform(3, 60, int(time[-1] // 10) + 2))
    trim = np.repeat(rng.uniform(-0.05, 0.05, size // 25 + 1), 25)[:size]
    return rng, time, airflow, trim, (airflow > 20).astype(np.int64)


@pytest.mark.parametrize("seed", range(4))
def test_both_parts_of_the_delay_are_found(seed):
    rng, time, airflow, trim, cell = driven(seed)
    reading = np.interp(time - (0.08 + 2.4 / airflow), time, 1.0 / (1 + trim)) * (1 + 0.01 * rng.normal(size=time.size))
    found = estimate_delay([DelaySamples(time, reading, 1 + trim, airflow, cell)], 2)
    assert found.delay.d0 == pytest.approx(0.08, abs=0.05)
    assert found.delay.k == pytest.approx(2.4, abs=0.5)
    assert found.gain.sure


@pytest.mark.parametrize("seed", range(8))
def test_noise_without_a_delay_is_not_taken_for_one(seed):
    """Interpolating halfway between two samples halves their noise, and must not look like a gain."""
    rng, time, airflow, _, cell = driven(seed)
    white = 1.0 + 0.03 * rng.normal(size=time.size)
    found = estimate_delay([DelaySamples(time, white, np.ones(time.size), airflow, cell)], 2)
    assert found.delay == Delay(0.0, 0.0)
    assert abs(found.gain.share) < 0.05


def test_no_usable_sample_means_no_delay():
    nothing = np.full(TIME.shape, -1, dtype=np.int64)
    ones = np.ones(TIME.shape)
    assert estimate_delay([DelaySamples(TIME, ones, ones, None, nothing)], 4).delay == Delay(0.0, 0.0)
    assert estimate_delay([], 4).delay == Delay(0.0, 0.0)


def test_nothing_reached_fills_nothing():
    assert spread_outwards(np.full((2, 3), 1.5), np.zeros((2, 3), dtype=bool), fade=True).tolist() == [[1.0] * 3] * 2


@given(st.lists(st.floats(0.9, 1.1), min_size=12, max_size=12), st.sets(st.integers(0, 11), min_size=1), st.booleans())
def test_filled_factors_lie_among_the_reached_ones_and_one(values, chosen, fade):
    factor = np.array(values).reshape(3, 4)
    reached = np.zeros(12, dtype=bool)
    reached[list(chosen)] = True
    reached = reached.reshape(3, 4)
    out = spread_outwards(factor, reached, fade=fade)
    assert np.array_equal(out[reached], factor[reached])
    low, high = factor[reached].min(), factor[reached].max()
    assert (out >= min(low, 1.0) - 1e-9).all() and (out <= max(high, 1.0) + 1e-9).all()


@given(st.lists(st.floats(0.8, 1.2), min_size=12, max_size=12), st.sets(st.integers(0, 11)), st.floats(0, 100))
def test_smoothing_neither_leaves_the_area_nor_its_range(values, chosen, percent):
    factor = np.array(values).reshape(3, 4)
    changed = np.zeros(12, dtype=bool)
    changed[list(chosen)] = True
    changed = changed.reshape(3, 4)
    out = smoothed(factor, changed, percent)
    assert np.array_equal(out[~changed], factor[~changed])
    if changed.any():
        assert out[changed].min() >= factor[changed].min() - 1e-9
        assert out[changed].max() <= factor[changed].max() + 1e-9


CURVE = Table(
    "maf", "Airflow meter", "maf_curve", "g/s",
    Axis("airflow_frequency", "Hz", frozen([1000.0, 2000.0, 3000.0])), None, frozen([5.0, 20.0, 60.0]), 0.0, 500.0, 2,
)  # fmt: skip


def test_a_meter_curve_is_corrected_like_a_table():
    log = make_log(
        airflow_frequency=np.full(200, 2000.0), engine_speed=2500.0, coolant_temperature=90.0, throttle_position=12.0,
        lambda_measured=1.04, lambda_target=1.0, short_term_trim=1.0, long_term_trim=0.0,
    )  # fmt: skip
    calibration = Calibration("c", "C", (), (CURVE,))
    proposal = fuel_proposal([log], calibration, "maf", Policy(delay=(0, 0), unreached="leave"))
    assert proposal.corrected.values.tolist() == [5.0, pytest.approx(20 * 1.04 * 1.01, abs=0.005), 60.0]
    account = explain(proposal, 0, 1)
    assert (account.x, account.y, account.visits) == (2000.0, None, 1)


def test_moments_and_shares_of_several_logs(steady, calibration):
    speed = np.full(200, 2000.0)
    speed[80:140] = 3000.0
    logs = [replace(steady(200, engine_speed=speed), name="one.csv"), replace(steady(50), name="two.csv")]
    policy = Policy(estimator="nearest", delay=(0, 0), without=("transient",))
    account = explain(fuel_proposal(logs, calibration, "ve_main", policy), 0, 1)
    assert [(share.name, share.samples, share.visits) for share in account.logs] == [
        ("one.csv", 140, 2),
        ("two.csv", 50, 1),
    ]
    assert [(moment.log, moment.start, moment.end) for moment in account.moments] == [
        (0, 0.0, pytest.approx(3.95)),
        (0, pytest.approx(7.0), pytest.approx(9.95)),
        (1, 0.0, pytest.approx(2.45)),
    ]


def test_a_formula_is_gathered_over_logs_and_conditions(steady, calibration, table):
    logs = [steady(100, lambda_measured=1.1), steady(100, engine_speed=np.full(100, 3000.0))]
    samples = gather_samples(logs, table, "lambda_measured - 1", ["engine_speed < 2500"])
    bins = bins_of(samples, table, "weighted")
    assert (samples.value.size, samples.total) == (100, 200)
    assert bins.mean[0, 1] == pytest.approx(0.1)
    assert bins.visits.sum() == 1
    with pytest.raises(BadInput, match="the log has no intake pressure"):
        gather_samples([make_log(engine_speed=np.ones(5))], table, "engine_speed")


def test_pressure_ratio_and_boost_are_derived():
    _, signals = on_one_base(make_log(engine_speed=np.ones(3), manifold_pressure=150.0, barometric_pressure=100.0))
    assert signals["pressure_ratio"].tolist() == [1.5] * 3
    assert signals["boost_pressure"].tolist() == [50.0] * 3


def test_channels_of_another_raster_are_brought_to_the_time_of_engine_speed():
    fast = make_log(rate=10, engine_speed=np.full(11, 1000.0)).rasters[0]
    slow = make_log(rate=1, coolant_temperature=[80.0, 90.0]).rasters[0]
    time, signals = on_one_base(replace(make_log(engine_speed=np.ones(2)), rasters=(slow, fast)))
    assert time.size == 11
    assert signals["coolant_temperature"] == pytest.approx(np.linspace(80, 90, 11))


def test_two_axes_need_two_values():
    with pytest.raises(TypeError, match="both are needed"):
        make_table([[1.0] * 3] * 2).lookup(np.ones(1))
    assert CURVE.lookup(np.array([1500.0]))[0] == 12.5
