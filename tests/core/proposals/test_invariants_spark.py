"""What must never happen with spark: properties over random logs, tables laid either way, and policies."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.core.laid import operating, tables
from tests.seeds import seeds
from uchiwa.core.knock.events import RISE, knock_events, log_events
from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.judgement import GRAVE, Verdict, clusters
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import counts_as_real, proposal_from
from uchiwa.core.quantities.catalogue import QUANTITIES


def rasters(*groups: tuple[float, dict[str, np.ndarray]], name: str = "drive") -> Log:
    """A log of several rates: (samples a second, signals)."""
    return Log(
        name,
        tuple(
            Raster(
                np.arange(len(next(iter(signals.values())))) / rate,
                tuple(Channel(one, QUANTITIES[one].unit, values, one) for one, values in signals.items()),
            )
            for rate, signals in groups
        ),
    )


@given(st.floats(0.05, 0.39), st.booleans(), st.integers(3, 30))
def test_retard_that_creeps_is_found_whichever_sign_it_is_logged_with(step, negative, steps):
    """8: no single step is a jump, yet the sum is knock."""
    retard = np.concatenate([np.zeros(20), step * np.arange(1, steps + 1), np.full(40, step * steps)])
    time = np.arange(retard.size) * 0.1
    found = knock_events(time, {"knock_retard": -retard if negative else retard})
    if step * steps < RISE:
        assert found == []
    else:
        assert max(one.retard for one in found) >= step * steps - RISE - 1e-9
        assert found[0].at <= 2.0 + 0.1 * (np.ceil(RISE / step) + 1)


@given(st.floats(0.5, 12))
def test_retard_that_was_there_when_the_log_began_counts(degrees):
    """8: nobody saw it rise."""
    found = knock_events(np.arange(100) * 0.05, {"knock_retard": np.full(100, degrees)})
    assert [(one.at, one.retard) for one in found] == [(0.0, degrees)]


@given(st.integers(1, 2398), st.floats(1, 9), st.sampled_from([1.0, 5.0, 10.0]), tables("spark_advance"))
def test_a_single_sample_between_slower_channels_counts_at_its_own_moment(at, degrees, slow, table):
    """8: retard at 40 Hz beside speed and load at 1 to 10 Hz."""
    retard = np.zeros(2400)
    retard[at] = degrees
    seconds = np.arange(int(60 * slow) + 1) / slow
    place = operating(table, 2000 + 40 * seconds, 0.5 + 0.01 * seconds)
    knock = gather_knock([rasters((slow, place), (40.0, {"knock_retard": retard}))], table)
    assert len(knock.events) == 1
    (one,) = knock.events
    assert one.event.at == pytest.approx(at / 40)
    assert one.event.retard == pytest.approx(degrees)
    assert one.speed == pytest.approx(2000 + at, abs=1.0)
    assert knock.worst.max() == pytest.approx(degrees)


def drive_with_knock(draw, table):
    """A drive all over the table, with knock here and there; retard on its own, quicker base."""
    size = draw(st.integers(150, 400))
    rng = np.random.default_rng(draw(st.integers(0, 10**6)))
    speed = np.clip(3000 + np.cumsum(rng.normal(0, 120, size)), 600, 7000)
    load = np.clip(0.9 + np.cumsum(rng.normal(0, 0.05, size)), 0.15, 1.9)
    retard = np.zeros(size * 4)
    for at in draw(st.lists(st.integers(0, size * 4 - 1), min_size=1, max_size=6)):
        length = int(rng.integers(1, 12))
        retard[at : at + length] = np.maximum(retard[at : at + length], draw(st.floats(0.5, 9)))
    return rasters((10.0, operating(table, speed, load)), (40.0, {"knock_retard": retard}))


@st.composite
def knocking(draw):
    """A spark table, and a log that knocks on it."""
    table = draw(tables("spark_advance"))
    return table, drive_with_knock(draw, table)


@settings(max_examples=seeds(60, 150))
@given(knocking(), st.floats(0, 3), st.floats(0.5, 8), st.integers(0, 2), st.sampled_from([0.1, 0.25, 0.5, 1.0]))
def test_spark_at_each_real_event_falls_by_what_was_seen_and_the_margin(found, margin, slope, widen, step):
    """10: looked up where the event lay, between breakpoints or on them, whichever way the table is laid."""
    table, log = found
    knock = gather_knock([log], table)
    policy = KnockPolicy(margin=margin, slope=slope, widen=widen, step=step)
    proposal = proposal_from(table, knock, clusters(knock, table), policy)
    assert (proposal.after <= table.grid).all()
    assert proposal.unmet == ()
    corrected = proposal.corrected
    for cluster in proposal.clusters:
        if not counts_as_real(cluster, policy):
            continue
        for event in cluster.events:
            here = (np.array([event.x]), np.array([event.y]))
            fall = float(table.lookup(*here)[0] - corrected.lookup(*here)[0])
            assert fall >= event.event.retard + margin - 1e-6


@settings(max_examples=seeds(60, 150))
@given(knocking(), st.floats(0, 2))
def test_nothing_above_a_real_event_in_load_keeps_more_spark(found, margin):
    """10: upward means by the axis' quantity."""
    table, log = found
    knock = gather_knock([log], table)
    policy = KnockPolicy(margin=margin, widen=0)
    proposal = proposal_from(table, knock, clusters(knock, table), policy)
    out = table.grid - proposal.after
    rows = table.y.quantity != "engine_speed"
    out, asked = (out, proposal.asked) if rows else (out.T, proposal.asked.T)
    for j, i in zip(*(asked > 0).nonzero(), strict=True):
        assert (out[j:, i] >= asked[j, i] - 1e-6).all()


@settings(max_examples=seeds(80, 200))
@given(knocking())
def test_what_is_grave_or_comes_twice_is_never_called_noise(found):
    """9: not by the product alone."""
    table, log = found
    knock = gather_knock([log], table)
    for cluster in clusters(knock, table):
        cells = [(event.i, event.j) for event in cluster.events]
        if cluster.worst >= GRAVE or len(set(cells)) < len(cells):
            assert cluster.verdict is not Verdict.NOISE
            assert counts_as_real(cluster, KnockPolicy())


def pull(cut: bool, seed: int = 1) -> dict[str, np.ndarray]:
    """A pull to 6400 rpm at 20 Hz, which ends there or runs on the limiter."""
    time = np.arange(240) / 20
    speed = np.minimum(2000 + 440 * time, 6400.0)
    if cut:
        on = time > 10
        speed[on] = 6400 - 180 * np.abs(np.sin(2 * np.pi * 2.5 * (time[on] - 10)))
    return {
        "engine_speed": speed + np.random.default_rng(seed).normal(0, 3, time.size),
        "manifold_pressure": np.full(time.size, 160.0),
        "throttle_position": np.full(time.size, 98.0),
        "knock_retard": np.where(np.abs(time - 10.4) < 0.2, 2.0, 0.0),
    }


def test_the_limiter_is_known_by_its_cut_and_not_by_the_highest_speed():
    """9: knock at the top of a pull is knock."""
    from uchiwa.core.knock.evidence import Disturbance
    from uchiwa.standin.cars import pike_base

    table = pike_base().table("spark_main")
    (at_the_top,) = gather_knock([rasters((20.0, pull(cut=False)))], table).events
    assert at_the_top.disturbed is None
    (bounced,) = gather_knock([rasters((20.0, pull(cut=True)))], table).events
    assert bounced.disturbed is Disturbance.LIMITER


def test_pins_that_hold_spark_where_it_knocks_are_told():
    """10: where it cannot hold, the proposal says so."""
    from uchiwa.standin.cars import pike_base

    table = pike_base().table("spark_main")
    log = rasters((20.0, pull(cut=False)))
    knock = gather_knock([log], table)
    (event,) = knock.events
    policy = KnockPolicy(pinned=((event.i, event.j),), real=(1,))
    proposal = proposal_from(table, knock, clusters(knock, table), policy)
    assert [one.event for one in proposal.unmet] == [event]
    assert proposal.unmet[0].falls < proposal.unmet[0].wanted
    assert log_events(log)[0].at == event.event.at


# --- spark by torque ---------------------------------------------------------------------------------------------


def runs(draw, table):
    """Dyno runs at some sparks, some of which hold a little retard somewhere, with or without a real gain."""
    load = draw(st.floats(1.2, 1.7))
    best, scatter = draw(st.floats(12, 34)), draw(st.sampled_from([0.0003, 0.004, 0.02]))
    rng = np.random.default_rng(draw(st.integers(0, 10**6)))
    logs = []
    for number in range(draw(st.integers(2, 8))):
        spark = draw(st.sampled_from([14.0, 17.0, 20.0, 21.0]))
        speed = np.linspace(1700, 6300, 400)
        torque = 250 * (1 - 0.0006 * (spark - best) ** 2) * (1 + scatter * rng.normal()) * np.ones(speed.size)
        retard = np.zeros(speed.size)
        if draw(st.booleans()):
            at = int(rng.integers(0, 380))
            retard[at : at + 15] = draw(st.floats(0.15, 3))
        quantities = operating(table, speed, np.full(speed.size, load))
        quantities |= {"wheel_torque": torque, "spark_advance": spark - retard, "knock_retard": retard}
        logs.append(rasters((25.0, quantities), name=f"run {number}"))
    return logs


@st.composite
def sessions(draw):
    """A spark table laid either way, with runs on it."""
    table = draw(tables("spark_advance", load="manifold_pressure"))
    return table, runs(draw, table)


@settings(max_examples=seeds(50, 120))
@given(sessions())
def test_spark_goes_in_only_where_it_was_run_clean_and_gained_beyond_scatter(session):
    """11: nowhere unrun, in no run that held retard, on no gain that scatter explains; else the run that would tell."""
    from uchiwa.core.proposals.torque.decision import Advice
    from uchiwa.core.proposals.torque.policy import TorquePolicy
    from uchiwa.core.proposals.torque.proposal import torque_proposal
    from uchiwa.core.tables.orientation import laid_by_speed
    from uchiwa.core.tables.table import Calibration

    table, logs = session
    found = torque_proposal(logs, Calibration("c", "C", (), (table,)), table.id, TorquePolicy())
    rise = (found.after - table.grid).T if found.turned else found.after - table.grid
    flat, _ = laid_by_speed(table)
    speeds = flat.x.breakpoints
    middle = (flat.y.breakpoints[1:] + flat.y.breakpoints[:-1]) / 2
    for j, i in np.argwhere(rise > 1e-9):
        decision = next(one for one in found.decisions if one.column == i)
        assert decision.gain.low > 0
        low = middle[j - 1] if j else -np.inf
        high = middle[j] if j < middle.size else np.inf
        assert low - 1e-6 <= decision.load <= high + 1e-6
        edges = found.bands.edges[i], found.bands.edges[i + 1]
        clean = -np.inf
        for log in logs:
            quantities = {one: channel.values for one, channel in log.quantities.items()}
            inside = (quantities["engine_speed"] >= edges[0]) & (quantities["engine_speed"] < edges[1])
            if inside.any() and quantities["knock_retard"][inside].max() <= 0.1:
                clean = max(clean, float(quantities["spark_advance"][inside].mean()))
        assert decision.after <= clean + TorquePolicy().beyond + 1e-6
    for decision in found.decisions:
        if decision.advice in (Advice.NOTHING, Advice.FAR):
            assert decision.ask is not None and decision.ask.runs >= 1
    assert speeds.size == rise.shape[1]


def test_a_controllers_own_torque_is_no_dyno():
    """15: a torque channel in a road log follows the spark table, whatever the engine does."""
    from uchiwa.core.pulls.recognised import from_dyno
    from uchiwa.standin.dyno import dyno_run
    from uchiwa.standin.fleet import car_named
    from uchiwa.standin.simulate import simulate

    car = car_named("corvid-pike")
    assert from_dyno(dyno_run(car, car.base(), 1, 1))
    road = simulate(car, car.base(), "full_load_pull", 1, tell_torque=True)
    assert "wheel_torque" in road.quantities
    assert not from_dyno(road)
    long = np.tile(np.concatenate([np.full(400, 2200.0), np.linspace(2200, 2800, 200)]), 6)
    bare = {"engine_speed": long, "wheel_torque": 200.0 + 0 * long, "spark_advance": 20.0 + 0 * long}
    assert not from_dyno(rasters((20.0, bare)))


@given(st.integers(0, 10**6))
def test_fuel_grade_takes_spark_out_at_load_whichever_way_the_table_is_laid(seed):
    """10: upward in load means by the axis' quantity."""
    from dataclasses import replace

    from uchiwa.core.proposals.fuel_grade.proposal import start_lower
    from uchiwa.core.tables.table import Axis, Table, frozen

    rng = np.random.default_rng(seed)
    speeds, loads = (
        Axis("engine_speed", "rpm", frozen([1000, 3000, 6000])),
        Axis("pressure_ratio", "1", frozen([0.3, 0.8, 1.2, 1.8])),
    )
    grid = np.round(rng.uniform(10, 35, (4, 3)), 1)
    table = Table("s", "S", "spark_advance", "deg", speeds, loads, frozen(grid), decimals=1)
    turned = replace(table, x=loads, y=speeds, values=frozen(grid.T))
    out = start_lower(table, 4, 1.5)
    assert np.array_equal(start_lower(turned, 4, 1.5), out.T)
    assert (table.grid - out)[-1] == pytest.approx(6.0)
    assert (table.grid - out)[0] == pytest.approx(0.0)
