"""Knock events, their place on the table, their judgement, and the spark they take out."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.events import Sign, knock_events
from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.judgement import ReasonKind, Verdict, clusters
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import knock_proposal, proposal_from
from uchiwa.core.proposals.knock.report import report
from uchiwa.core.proposals.policy_file import policy_of
from uchiwa.standin.cars import pike_base

BASE = pike_base()
SPARK = BASE.table("spark_main")
RATE = 20.0


def drive(size: int = 1200, *, events=(), speed=3200.0, pressure=150.0, degrees: float = 3.0, **changes):
    """Steady running with retard that jumps up at some seconds and falls away within one."""
    retard = np.zeros(size)
    for at in events:
        begin = int(at * RATE)
        length = min(20, size - begin)
        retard[begin : begin + length] = np.maximum(retard[begin : begin + length], np.linspace(degrees, 0.1, length))
    signals = {
        "engine_speed": np.full(size, float(speed)),
        "manifold_pressure": pressure,
        "throttle_position": 90.0,
        "spark_advance": 24.0,
        "knock_retard": retard,
        "gear": 4.0,
    }
    return make_log(RATE, **(signals | changes))


def test_an_event_is_a_rising_edge_and_what_follows_within_a_quarter_second_belongs_to_it():
    time = np.arange(100) / 20
    retard = np.zeros(100)
    retard[20:24], retard[23], retard[60:80] = 2.0, 4.0, 1.5
    found = knock_events(time, {"knock_retard": retard})
    assert [(one.at, one.retard) for one in found] == [(1.0, 4.0), (3.0, 1.5)]
    count = np.repeat([0, 1, 1, 3], 25).astype(float)
    assert [event.sign for event in knock_events(time, {"knock_count": count})] == [Sign.COUNT, Sign.COUNT]
    level, limit = np.full(100, 0.5), np.ones(100)
    level[40] = 1.6
    heard = knock_events(time, {"knock_level": level, "knock_limit": limit})
    assert [(one.at, one.sign, one.level) for one in heard] == [(2.0, Sign.LEVEL, 1.6)]
    marker = np.zeros(100)
    marker[50:55] = 1
    assert [event.sign for event in knock_events(time, {"marker": marker})] == [Sign.MARK]
    assert knock_events(time, {"engine_speed": retard}) == []


def test_evidence_counts_time_events_and_retard_in_the_tables_cells():
    knock = gather_knock([drive(events=(10, 20, 30))], SPARK)
    i, j = SPARK.x.nearest(np.array([3200.0]))[0], SPARK.y.nearest(np.array([150.0]))[0]
    assert (knock.count[j, i], knock.worst[j, i]) == (3, 3.0)
    assert knock.dwell[j, i] == pytest.approx(60, abs=0.1)
    assert knock.per_minute[j, i] == pytest.approx(3, rel=0.01)
    assert knock.count.sum() == 3
    assert np.isnan(knock.per_minute[0, 0])
    assert knock.heard
    flagged = gather_knock([drive(low_octane_flag=1.0)], SPARK)
    assert flagged.low_octane_s == pytest.approx(60, abs=0.1)


def judged(log, safer=None):
    knock = gather_knock([log], SPARK)
    return clusters(knock, SPARK, gather_knock([safer], SPARK) if safer is not None else None)


def test_repeated_knock_at_full_load_is_real_and_a_single_small_one_is_not_sure_to_be():
    assert [one.verdict for one in judged(drive(events=(5, 15, 25, 35)))] == [Verdict.REAL]
    small = judged(drive(events=(5,), degrees=1.0, throttle_position=30.0, pressure=60.0))
    assert small[0].verdict is Verdict.NOISE
    loaded = judged(drive(events=(5,), degrees=1.0, throttle_position=30.0))
    assert loaded[0].verdict is Verdict.UNSURE, "at 150 kPa even a single small event may be knock"
    assert any(why.code is ReasonKind.SMALL for why in small[0].reasons)


def test_shifts_and_snaps_explain_what_is_heard_beside_them():
    gear = np.repeat([2.0, 3.0, 4.0, 5.0], 300)
    log = drive(events=(15.1, 30.1, 45.1), gear=gear)
    found = judged(log)
    assert found[0].verdict is Verdict.UNSURE, "the same place three times is never noise by the product alone"
    assert any(why.code is ReasonKind.DISTURBED and "a shift" in why.words for why in found[0].reasons)
    once = judged(drive(events=(15.1,), degrees=1.5, gear=gear, pressure=60.0, throttle_position=30.0))
    assert once[0].verdict is Verdict.NOISE


def test_what_stays_with_less_spark_is_noise_and_what_goes_is_knock():
    log = drive(events=(5, 15, 25, 35))
    stays = judged(log, drive(events=(5, 15, 25, 35), spark_advance=17.0))
    assert stays[0].verdict is Verdict.NOISE
    goes = judged(log, drive(spark_advance=17.0))
    assert goes[0].verdict is Verdict.REAL
    assert any(why.code is ReasonKind.GONE for why in goes[0].reasons)
    near = judged(log, drive(events=(5, 15, 25, 35), spark_advance=20.0))
    assert near[0].verdict is not Verdict.NOISE, "4° less may still knock"


def test_a_rattle_at_one_speed_is_told_from_knock_under_load():
    rng = np.random.default_rng(4)
    size = 4800
    pressure = 60 + 100 * (np.arange(size) % 600) / 600
    speed = np.where(np.arange(size) % 200 < 40, 3200.0, 2500.0)
    at_speed = [one / RATE for one in range(0, size, 200)]
    rattling = {"events": at_speed, "speed": 3200.0, "pressure": pressure, "engine_speed": speed}
    found = judged(drive(size, **rattling))
    assert {one.verdict for one in found} == {Verdict.UNSURE}
    assert all(any(why.code is ReasonKind.ANY_LOAD for why in one.reasons) for one in found)
    found = judged(drive(size, **rattling), drive(size, **rattling, spark_advance=17.0))
    assert {one.verdict for one in found} == {Verdict.NOISE}
    under_load = [one / RATE for one in range(560, size, 600)]
    found = judged(drive(size, events=under_load, pressure=pressure + rng.normal(0, 1, size)))
    assert {one.verdict for one in found} == {Verdict.REAL}


def proposal(log, **policy):
    return knock_proposal([log], BASE, "spark_main", KnockPolicy(**policy))


def test_spark_goes_out_by_the_worst_retard_rounded_up_with_the_margin_and_upward_in_load():
    found = proposal(drive(events=(5, 15, 25, 35), degrees=2.2), margin=1.0, step=0.5, slope=20, widen=0)
    # 150 kPa lies between the rows of 140 and 160: both give 3.5°, and all above.
    i, j = int(SPARK.x.nearest(np.array([3200.0]))[0]), list(SPARK.y.breakpoints).index(140.0)
    assert found.asked[j, i] == 3.5
    out = SPARK.grid - found.after
    assert out[j:, i] == pytest.approx([3.5] * (13 - j))
    assert out[:j, i] == pytest.approx([0] * j)
    assert out.sum() == pytest.approx(out[j:, i].sum())
    assert found.unmet == ()
    told = report(found)
    assert told["clusters"][0]["verdict"] == "real"
    assert sum(one["events"] for one in told["cells"]) == told["events"] == 4


def test_neighbours_step_down_so_that_no_ledge_stands():
    found = proposal(drive(events=(5, 15, 25, 35), degrees=8.0), slope=3.0, widen=0)
    i, j = int(SPARK.x.nearest(np.array([3200.0]))[0]), int(SPARK.y.nearest(np.array([150.0]))[0])
    row = found.after[j]
    assert (np.abs(np.diff(row)) <= 3.0 + 1e-9).all()
    assert found.state[j, i] == "changed"
    assert found.state[j, i + 1] == "filled"
    assert found.state[0, 0] == "kept"


def test_a_persons_word_goes_before_the_judgement_and_doubt_counts_as_knock():
    log = drive(events=(5, 15, 25, 35))
    assert (proposal(log, noise=(1,)).after == SPARK.grid).all()
    unsure = drive(events=(5, 15), degrees=2.0, throttle_position=30.0, pressure=60.0)
    assert judged(unsure)[0].verdict is Verdict.UNSURE
    assert (proposal(unsure).after < SPARK.grid).any()
    noise = drive(events=(5,), degrees=1.0, throttle_position=30.0, pressure=60.0)
    assert (proposal(noise).after == SPARK.grid).all()
    assert (proposal(noise, real=(1,)).after < SPARK.grid).any()


@given(st.lists(st.floats(1, 55), min_size=4, max_size=6, unique=True), st.floats(1, 9), st.floats(1, 6))
def test_no_step_is_left_that_was_not_there_before(events, degrees, slope):
    knock = gather_knock([drive(events=events, degrees=degrees)], SPARK)
    found = proposal_from(SPARK, knock, clusters(knock, SPARK), KnockPolicy(slope=slope))
    for axis in (0, 1):
        before, after = np.abs(np.diff(SPARK.grid, axis=axis)), np.abs(np.diff(found.after, axis=axis))
        assert (after <= np.maximum(before, slope) + 0.1 + 1e-9).all()


def test_a_ledge_that_was_there_is_left_alone():
    grid = SPARK.grid.copy()
    grid[6:] -= 8.0
    cliff = SPARK.with_grid(grid)
    knock = gather_knock([drive(events=(5, 15, 25, 35))], cliff)
    found = proposal_from(cliff, knock, clusters(knock, cliff), KnockPolicy())
    assert (found.after[:6] == cliff.grid[:6]).all()
    assert (found.after[6:] < cliff.grid[6:]).any()


@given(
    st.lists(st.floats(1, 55), max_size=6, unique=True),
    st.floats(1, 9),
    st.floats(0.5, 6),
    st.floats(0, 4),
    st.lists(st.tuples(st.integers(0, 14), st.integers(0, 12)), max_size=12),
)
def test_spark_is_never_raised_and_pinned_or_unchosen_cells_never_change(events, degrees, slope, margin, cells):
    log = drive(events=events, degrees=degrees)
    knock = gather_knock([log], SPARK)
    for policy in (
        KnockPolicy(slope=slope, margin=margin, pinned=tuple(cells)),
        KnockPolicy(slope=slope, only=tuple(cells)),
    ):
        found = proposal_from(SPARK, knock, clusters(knock, SPARK), policy)
        assert (found.after <= SPARK.grid).all()
        for i, j in np.ndindex(15, 13):
            if ((i, j) in cells) is bool(policy.pinned):
                assert found.after[j, i] == SPARK.grid[j, i] or not cells
        if not knock.events:
            assert (found.after == SPARK.grid).all()


def test_what_cannot_be_told_is_said():
    quiet = make_log(RATE, engine_speed=3000.0, manifold_pressure=150.0, spark_advance=20.0)
    with pytest.raises(BadInput, match="no log has a knock channel"):
        proposal(quiet)
    with pytest.raises(BadInput, match="is not a spark table"):
        knock_proposal([drive()], BASE, "ve_main", KnockPolicy())
    with pytest.raises(BadInput, match="an axis of the table"):
        proposal(make_log(RATE, engine_speed=3000.0, knock_retard=0.0))
    with pytest.raises(BadInput, match="there is no log"):
        knock_proposal([], BASE, "spark_main", KnockPolicy())
    marked = make_log(RATE, engine_speed=3000.0, manifold_pressure=150.0, marker=np.repeat([0.0, 1.0], 60))
    assert proposal(marked).knock.events[0].event.sign is Sign.MARK
    for text, said in (("{", "not JSON"), ('{"slope": 0}', "policy, slope"), ('{"colour": 1}', "colour")):
        with pytest.raises(BadInput) as error:
            policy_of(KnockPolicy, text)
        assert said in str(error.value)
