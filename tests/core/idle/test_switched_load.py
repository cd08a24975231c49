"""A load that nobody recorded, found by its steps."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.seeds import seeds
from uchiwa.core.evidence.falling_fit import SampleWeights, fit_falling
from uchiwa.core.idle.switched_load import steps, switched_load
from uchiwa.core.tables.table import Axis, frozen

AXIS = Axis("coolant_temperature", "degC", frozen([0, 10, 20, 30, 40, 50, 60, 70, 80, 95]))
FLAT = np.full(10, 3.0)
RATE = 4.0


def warming(starts: int, seconds: float = 600.0):
    """Time, coolant and start number of some warm-ups."""
    time = np.tile(np.arange(0, seconds, 1 / RATE), starts)
    start = np.repeat(np.arange(starts), int(seconds * RATE))
    coolant = 90 - 80 * np.exp(-time / (200.0 + 20 * start))
    return time, coolant, start


def told(coolant, air, time, start):
    """The load found about a first fit, as the proposal asks for it."""
    size = time.size
    stretch = (time // 15).astype(np.int64) + 1000 * start
    weights = SampleWeights(np.ones(size), np.full(size, 1 / RATE), stretch, start)
    fit = fit_falling(AXIS, coolant, air, weights, FLAT, np.zeros(10))
    return switched_load(AXIS, coolant, air, fit.value, weights, time)


def needed(coolant):
    """What the engine needs without any load."""
    return 2.5 + 2.0 * np.exp(-coolant / 30)


def blocks(time, start, seconds, rng, share=0.5):
    """On and off, drawn anew every so many seconds."""
    number = (time // seconds).astype(int) + 1000 * start
    names, place = np.unique(number, return_inverse=True)
    return (rng.random(names.size) < share)[place]


def answered(values, time, start):
    """A control that takes two seconds to answer."""
    out = np.empty(values.size)
    for one in np.unique(start):
        here = np.flatnonzero(start == one)
        level = values[here[0]]
        for at in here:
            level += (values[at] - level) / (2.0 * RATE)
            out[at] = level
    return out


def test_a_step_is_found_where_it_is_and_a_slope_is_none():
    time = np.arange(0, 60, 0.1)
    wobble = 0.02 * np.sin(np.arange(600) * 1.7)
    found = steps(time, wobble + np.where(time >= 30, 0.5, 0.0), 0.1)
    assert time[found] == pytest.approx([30.0], abs=1.5)
    assert steps(time, wobble + 0.01 * time, 0.1).size == 0
    assert steps(time[:4], wobble[:4], 0.1).size == 0


@settings(max_examples=seeds(15, 100))
@given(st.integers(0, 10_000), st.floats(0.3, 1.0), st.floats(0.35, 0.65))
def test_a_load_switched_at_random_is_found_and_its_mean_is_left_in_the_air(seed, load, share):
    rng = np.random.default_rng(seed)
    time, coolant, start = warming(2)
    on = blocks(time, start, 24.0, rng, share)
    air = needed(coolant) + answered(load * on, time, start) + 0.02 * rng.normal(size=time.size)
    found = told(coolant, air, time, start)
    halves = [on[coolant < 50].mean(), on[coolant >= 50].mean()]
    if found is None:
        assert min(*halves, 1 - halves[0], 1 - halves[1]) < 0.2
        return
    assert found.air == pytest.approx(load, rel=0.1)
    assert found.share == pytest.approx(on.mean(), abs=0.06)
    assert found.taken.mean() == pytest.approx(0, abs=0.02)
    assert (found.on == on).mean() > 0.85


def test_starts_may_come_in_any_order():
    rng = np.random.default_rng(4)
    time, coolant, start = warming(3, 300)
    on = blocks(time, start, 20.0, rng)
    air = needed(coolant) + answered(0.5 * on, time, start) + 0.02 * rng.normal(size=time.size)
    first = told(coolant, air, time, start)
    turned = told(coolant, air, time, 2 - start)
    assert first is not None
    assert turned is not None
    assert turned.air == pytest.approx(first.air, abs=1e-6)
    assert np.array_equal(turned.on, first.on)


@pytest.mark.parametrize("case", ["none", "fan_when_hot", "hunting", "drifting", "small", "once"])
def test_what_is_no_switched_load_is_not_taken_for_one(case):
    rng = np.random.default_rng(7)
    time, coolant, start = warming(2)
    noise = 0.03 * rng.normal(size=time.size)
    air = needed(coolant) + noise
    if case == "fan_when_hot":
        air = air + answered(0.6 * ((coolant > 82) & (time % 40 < 20)), time, start)
    elif case == "hunting":
        air = air + 0.3 * np.sin(time * 2 * np.pi / 4.0)
    elif case == "drifting":
        air = air + 0.3 * np.sin(time * 2 * np.pi / 180.0)
    elif case == "small":
        air = air + 0.05 * blocks(time, start, 20.0, rng)
    elif case == "once":
        air = air + 0.6 * (time > 300)
    assert told(coolant, air, time, start) is None


def test_of_two_loads_the_larger_is_taken_and_the_curve_is_nearer_to_the_mean_for_it():
    off = []
    for seed in range(seeds(4, 30)):
        rng = np.random.default_rng(seed)
        time, coolant, start = warming(2)
        loads = 0.8 * blocks(time, start, 40.0, rng) + 0.2 * blocks(time, start, 25.0, rng)
        air = needed(coolant) + answered(loads, time, start) + 0.03 * rng.normal(size=time.size)
        found = told(coolant, air, time, start)
        taken = 0.0 if found is None else found.taken
        near = [AXIS.nearest(coolant) == i for i in range(1, 9)]
        for left in (air, air - taken):
            off.append(np.hypot.reduce([(left - needed(coolant))[one].mean() - loads.mean() for one in near]))
    assert np.mean(off[1::2]) < 0.5 * np.mean(off[::2])


def test_a_curve_without_samples_or_with_few_has_none():
    nothing = np.zeros(0)
    whole = np.zeros(0, dtype=np.int64)
    assert switched_load(AXIS, nothing, nothing, FLAT, SampleWeights(nothing, nothing, whole, whole), nothing) is None
