"""What must never happen with fuel: properties over random logs, tables laid either way, and policies."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_log
from tests.core.laid import operating, tables
from tests.seeds import seeds
from uchiwa.core.evidence.bins import figures
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.timebase import bridgeable, on_one_base, own_period
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import FuelProposal, fuel_proposal
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.orientation import load_axis
from uchiwa.core.tables.table import Calibration


def walk(rng, size, low, high, step):
    """An operating point that wanders between bounds."""
    place = np.cumsum(rng.normal(0, step, size)) + rng.uniform(0, 2)
    return low + (high - low) * (1 - np.abs(place % 2 - 1))


@st.composite
def drives(draw, table):
    """One or two logs over part of a table, whose error bends over it and scatters."""
    logs = []
    for number in range(draw(st.integers(1, 2))):
        rng = np.random.default_rng(draw(st.integers(0, 10**6)))
        size = draw(st.integers(150, 900))
        corner = sorted(draw(st.tuples(st.floats(0, 1), st.floats(0, 1))))
        speed = walk(rng, size, 700 + 3000 * corner[0], 2500 + 4000 * corner[1], 0.03)
        load = walk(rng, size, 0.25 + 0.5 * corner[0], 0.6 + 1.1 * corner[1], 0.03)
        error = 1 + 0.06 * np.sin(speed / 900 + draw(st.floats(0, 6))) * np.cos(3 * load) + rng.normal(0, 0.01, size)
        logs.append(
            make_log(
                draw(st.sampled_from([5.0, 20.0])), f"{number}.csv", **operating(table, speed, load),
                coolant_temperature=90.0, lambda_measured=error, lambda_target=1.0,
                short_term_trim=rng.normal(0, 1, size), long_term_trim=draw(st.floats(-3, 3)),
            )
        )  # fmt: skip
    return logs


@st.composite
def policies(draw, table):
    """Any policy; pins and chosen cells among them."""
    cells = st.tuples(st.integers(0, table.shape[1] - 1), st.integers(0, table.shape[0] - 1))
    return Policy(
        estimator=draw(st.sampled_from(["nearest", "weighted", "surface"])),
        strength=draw(st.sampled_from([30, 100])),
        limit_percent=draw(st.sampled_from([2, 15, 60])),
        dead_band_percent=draw(st.sampled_from([0, 0.5, 2])),
        minimum_samples=draw(st.sampled_from([1, 10, 60])),
        minimum_dwell_s=draw(st.sampled_from([0, 0.5, 4])),
        unreached=draw(st.sampled_from(["leave", "fade", "carry", "surface"])),
        smoothing=draw(st.sampled_from([0, 40, 100])),
        pinned=tuple(draw(st.lists(cells, max_size=3))),
        only=tuple(draw(st.lists(cells, min_size=1, max_size=30))) if draw(st.booleans()) else None,
        delay=(0.0, 0.0),
        without=("transient",),
    )


@st.composite
def proposals(draw) -> FuelProposal:
    """A proposal for a random table, from random logs under a random policy."""
    table = draw(tables())
    logs = draw(drives(table))
    calibration = Calibration("c", "C", (), (table,))
    return fuel_proposal(logs, calibration, table.id, draw(policies(table)))


def own_means(proposal: FuelProposal):
    """Means of each cell's samples, by the nearest breakpoint and by the lookup's weights."""
    evidence, table = proposal.evidence, proposal.table
    used = evidence.sieve.used
    y = evidence.y[used] if evidence.y is not None else None
    return figures(table.x, table.y, evidence.x[used], y, evidence.error[used]).mean, proposal.bins.mean


@settings(max_examples=seeds(60, 150))
@given(proposals())
def test_no_cell_moves_against_its_own_samples(proposal):
    """1: neither by a neighbour, nor by fading, carrying, smoothing, the surface or rounding."""
    before, after = proposal.table.grid, proposal.correction.after
    for mean in own_means(proposal):
        assert not ((after < before) & (mean > 1.0 + 1e-9)).any()
        assert not ((after > before) & (mean < 1.0 - 1e-9)).any()


@settings(max_examples=seeds(60, 150))
@given(proposals())
def test_nothing_above_the_measured_load_is_leaned_by_filling(proposal):
    """2: whichever way the table is laid."""
    along = load_axis(proposal.table)
    turn = (lambda grid: grid) if along == 0 else (lambda grid: grid.T)
    before, after, reached = (
        turn(one) for one in (proposal.table.grid, proposal.correction.after, proposal.reached)
    )  # fmt: skip
    loads, speeds = before.shape
    for speed in range(speeds):
        beside = reached[:, max(speed - 1, 0) : speed + 2].any(axis=1)
        if not beside.any():
            continue
        top = int(np.flatnonzero(beside).max())
        above = np.arange(loads) > top
        assert not (above & ~reached[:, speed] & (after[:, speed] < before[:, speed])).any()


def test_who_wants_to_lean_above_the_load_says_so_by_name(steady, calibration):
    """2: the policy has a word for it."""
    lean = steady(lambda_measured=0.92)
    held = fuel_proposal([lean], calibration, "ve_main", Policy(delay=(0, 0), unreached="carry")).correction
    assert (held.after[1] == 50.0).all()
    assert held.held_at_load is not None and held.held_at_load[1].all()
    named = Policy(delay=(0, 0), unreached="carry", lean_above_load=True)
    assert (fuel_proposal([lean], calibration, "ve_main", named).correction.after == 46.0).all()


@settings(max_examples=seeds(60, 150))
@given(proposals())
def test_a_filled_cell_moves_no_further_than_the_nearest_measured_ones(proposal):
    """3: and ever less with distance, unless it is carried."""
    factor, reached = proposal.correction.factor, proposal.reached
    known = np.argwhere(reached)
    moved = np.abs(factor - 1.0)
    for j, i in np.argwhere(~reached):
        if moved[j, i] == 0:
            continue
        away = np.hypot(*(known - (j, i)).T)
        nearest = known[away <= away.min() + 1e-9]
        most = max(moved[b, a] for b, a in nearest)
        assert moved[j, i] <= most + 1e-12
        if proposal.policy.unreached in ("fade", "surface"):
            assert moved[j, i] < most


def test_the_idle_alone_moves_the_idle_alone():
    """3: data of one corner do not tilt the map, whatever the cells beyond follow."""
    rng = np.random.default_rng(3)
    from uchiwa.standin.cars import pike_base

    base = pike_base()
    log = make_log(
        20.0, engine_speed=870 + 25 * rng.normal(size=2400), manifold_pressure=36 + 1.5 * rng.normal(size=2400),
        coolant_temperature=90.0, lambda_measured=1.018 + 0.004 * rng.normal(size=2400), lambda_target=1.0,
    )  # fmt: skip
    for unreached in ("fade", "surface", "carry"):
        found = fuel_proposal([log], base, "ve_main", Policy(delay=(0, 0), unreached=unreached, without=("transient",)))
        moved = np.abs(found.correction.factor - 1)
        assert moved.max() < 0.03
        if unreached != "carry":
            assert (moved[4:, 4:] < 0.004).all()


@settings(max_examples=seeds(60, 150))
@given(proposals())
def test_what_chance_explains_is_not_acted_on(proposal):
    """4: a cell changes by its own evidence only if "no change" lies outside its 95 % interval."""
    found, policy = proposal.estimate, proposal.policy
    moved = proposal.correction.after != proposal.table.grid
    inside = np.abs(found.factor - 1.0) <= 1.96 * found.standard_error
    assert not (moved & proposal.reached & inside & (policy.smoothing == 0)).any()
    if policy.smoothing:
        acted = proposal.correction.stages["chance"] != 1.0
        assert not (moved & proposal.reached & ~acted).any()


@settings(max_examples=seeds(30, 60))
@given(st.integers(0, 10**6), st.sampled_from([0.002, 0.01, 0.02]))
def test_a_reading_that_comes_in_steps_is_not_surer_than_half_a_step(seed, step):
    """4: a thousand equal readings of a coarse sensor are one reading."""
    rng = np.random.default_rng(seed)
    truth = 1.0 + rng.uniform(-0.03, 0.03)
    ripple = np.tile([0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, step, 2 * step, -step, 3 * step] * 10, 12)
    log = make_log(
        10.0, engine_speed=2000.0, manifold_pressure=40.0, coolant_temperature=90.0,
        lambda_measured=np.round((truth + np.where(np.arange(ripple.size) < 110, ripple, 0.0)) / step) * step,
        lambda_target=1.0,
    )  # fmt: skip
    from tests.conftest import make_table

    calibration = Calibration("c", "C", (), (make_table([[50.0] * 3] * 2),))
    for estimator in ("nearest", "weighted", "surface"):
        policy = Policy(delay=(0, 0), estimator=estimator, without=("transient", "rail"))
        found = fuel_proposal([log], calibration, "ve_main", policy).estimate
        assert found.standard_error[0, 1] >= 0.25 * step / np.sqrt(12)


BANKED = {
    "engine_speed": 2000.0, "manifold_pressure": 40.0, "coolant_temperature": 90.0, "lambda_target": 1.0,
}  # fmt: skip


@settings(max_examples=seeds(30, 60))
@given(st.integers(0, 10**6), st.sampled_from([0.65, 1.5, np.nan]), st.floats(0.05, 0.7))
def test_a_bank_at_its_rail_does_not_count_in_the_mean(seed, rail, share):
    """5: the other bank alone says what the mixture is."""
    from tests.conftest import make_table

    rng = np.random.default_rng(seed)
    size = 600
    one, two = (1.04 + 0.004 * rng.normal(size=size) for _ in range(2))
    lost = np.zeros(size, dtype=bool)
    at = int(rng.integers(0, size * (1 - share)))
    lost[at : at + int(size * share)] = True
    log = make_log(20.0, **BANKED, lambda_measured=one, lambda_measured_2=np.where(lost, rail, two))
    calibration = Calibration("c", "C", (), (make_table([[50.0] * 3] * 2),))
    found = fuel_proposal([log], calibration, "ve_main", Policy(delay=(0, 0), estimator="nearest"))
    assert found.bins.mean[0, 1] == pytest.approx(1.04, abs=0.003)
    assert found.bins.samples[0, 1] >= 0.9 * size


@given(st.sampled_from([0.0, 1.0, 1.5, np.nan]), st.booleans())
def test_a_dead_bank_is_left_out_and_told(value, first):
    """5: an empty second bank does not discard every sample, nor a stuck one halve the error."""
    from tests.conftest import make_table

    rng = np.random.default_rng(5)
    alive, dead = 1.06 + 0.01 * rng.normal(size=400), np.full(400, value)
    pair = (dead, alive) if first else (alive, dead)
    log = make_log(20.0, **BANKED, lambda_measured=pair[0], lambda_measured_2=pair[1])
    calibration = Calibration("c", "C", (), (make_table([[50.0] * 3] * 2),))
    found = fuel_proposal([log], calibration, "ve_main", Policy(delay=(0, 0), estimator="nearest"))
    assert found.bins.mean[0, 1] == pytest.approx(1.06, abs=0.003)
    assert any("never moved" in note for note in found.evidence.notes)


@settings(max_examples=seeds(50, 100))
@given(st.integers(0, 10**6), st.floats(0.5, 20), st.floats(0.3, 8), st.booleans())
def test_nothing_is_joined_over_a_gap(seed, rate, gap, state):
    """5: longer than three of the channel's own periods or half a second; states hold as long."""
    rng = np.random.default_rng(seed)
    time = np.arange(0, 40, 1 / rate)
    values = np.round(rng.uniform(0, 1, time.size)) if state else rng.normal(1, 0.1, time.size)
    start = float(rng.uniform(5, 25))
    kept = (time < start) | (time > start + gap)
    quantity = "loop_state" if state else "lambda_measured"
    base = np.arange(0, 40, 0.05)
    log = Log(
        "l",
        (
            Raster(base, (Channel("rpm", "rpm", np.full(base.size, 2000.0), "engine_speed"),)),
            Raster(time[kept], (Channel(quantity, QUANTITIES[quantity].unit, values[kept], quantity),)),
        ),
    )
    _, signals = on_one_base(log)
    found, longest = signals[quantity], bridgeable(own_period(time[kept]))
    known = time[kept]
    after = np.searchsorted(known, base)
    for n in np.flatnonzero(np.isfinite(found)):
        before = known[known <= base[n] + 1e-12]
        assert before.size
        reach = base[n] - before[-1] if state else known[min(after[n], known.size - 1)] - before[-1]
        assert reach <= longest
        if state:
            assert found[n] in (0.0, 1.0)


def test_two_rates_count_every_second_once():
    """A log that slows down from 20 Hz to 1 Hz stands for all of its time."""
    from uchiwa.core.logs.signal import durations

    time = np.concatenate([np.arange(0, 60, 0.05), np.arange(60, 120, 1.0), np.arange(130, 190, 0.05)])
    assert durations(time).sum() == pytest.approx(60 + 60 + 60, abs=1.5)


def test_transients_are_told_from_the_noise_of_the_channel():
    """A pressure that scatters by 3 kPa at 50 Hz is steady, and one that moves is not."""
    rng = np.random.default_rng(2)
    time = np.arange(6000) / 50
    from uchiwa.core.evidence.conditions import Limits, Samples, rule_named

    def left(pressure):
        signals = {"manifold_pressure": pressure, "engine_speed": np.full(time.size, 2000.0)}
        return float(np.mean(~rule_named("transient").finds(Samples(time, signals, Limits(), 1.0))))

    assert left(50 + 3 * rng.normal(size=time.size)) > 0.9
    quick = 50 + 40 * (np.sin(2 * np.pi * time / 2.0) > 0) + 3 * rng.normal(size=time.size)
    assert left(quick) < 0.3


def test_overrun_is_told_from_mixture_and_closed_throttle(steady, calibration):
    """Without a flag or a pulse, lean beyond any burning with the throttle shut is a fuel cut."""
    cut = np.zeros(400, dtype=bool)
    cut[150:200] = True
    log = steady(400, lambda_measured=np.where(cut, 1.25, 1.02), throttle_position=np.where(cut, 0.0, 15.0))
    found = fuel_proposal([log], calibration, "ve_main", Policy(delay=(0, 0), without=("transient",)))
    assert found.evidence.left_out()["overrun"] >= 50
    assert found.bins.mean[0, 1] == pytest.approx(1.02, abs=1e-6)


@settings(max_examples=seeds(20, 40))
@given(st.floats(0.2, 3), st.integers(0, 10**6))
def test_rich_bias_makes_no_step_at_the_dead_band(bias, seed):
    """Cells a little inside and a little outside of the dead band are proposed nearly the same."""
    from tests.conftest import make_table

    error = np.random.default_rng(seed).uniform(-0.01, 0.01)
    found = []
    for one in (error, error + 2e-4):
        log = make_log(20.0, **BANKED, lambda_measured=1 + one)
        table = replace(make_table([[50.0] * 3] * 2), decimals=4)
        policy = Policy(delay=(0, 0), estimator="nearest", rich_bias_percent=bias, dead_band_percent=0.5)
        found.append(
            float(fuel_proposal([log], Calibration("c", "C", (), (table,)), "ve_main", policy).correction.factor[0, 1])
        )
    beyond = [abs((1 + e) * (1 + bias / 100) - 1) >= 0.005 for e in (error, error + 2e-4)]
    if beyond[0] == beyond[1]:
        assert abs(found[1] - found[0]) < 5e-4
