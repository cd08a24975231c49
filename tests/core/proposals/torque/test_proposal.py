"""Spark put in by torque: keep, add, take back, and what keeps it from going too far."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_log
from tests.seeds import seeds
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.known import knock_limits
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.proposal import threshold_proposal
from uchiwa.core.proposals.knock_limit.report import report
from uchiwa.core.proposals.policy_file import policy_of
from uchiwa.core.proposals.torque.decision import Advice
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.proposal import torque_proposal
from uchiwa.core.proposals.torque.report import report as torque_report
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen
from uchiwa.standin.cars import pike_base

SPEEDS = [1000.0, 2000.0, 3000.0, 4000.0, 5000.0, 6000.0]
LOADS = [60.0, 100.0, 140.0, 160.0, 180.0]


def calibration(spark: float = 18.0) -> Calibration:
    values = np.array([[spark + 2.0 * (4 - j)] * 6 for j in range(5)])
    values[3:] = spark
    table = Table(
        "spark", "Spark", "spark_advance", "deg", Axis("engine_speed", "rpm", frozen(SPEEDS)),
        Axis("manifold_pressure", "kPa", frozen(LOADS)), frozen(values), -10.0, 50.0, 1,
    )  # fmt: skip
    return Calibration("demo", "Demo", (), (table,))


def run(spark: float, *, best: float = 24.0, knocks=(), pressure=170.0, chance=0.0, **changes):
    """A dyno run at one spark, whose torque has its top at `best`; knock at the given speeds."""
    speed = np.linspace(1700, 6300, 460)
    torque = 260.0 * (1 - 0.0006 * (spark - best) ** 2) * (1 + chance)
    retard = np.zeros(speed.size)
    for at in knocks:
        begin = int(np.searchsorted(speed, at))
        retard[begin : begin + 12] = np.linspace(2.0, 0.2, 12)
    signals = {
        "engine_speed": speed,
        "wheel_torque": torque,
        "spark_advance": spark - retard,
        "manifold_pressure": pressure,
        "intake_air_temperature": 25.0,
        "barometric_pressure": 99.0,
        "knock_retard": retard,
    }
    return make_log(25, **{one: value for one, value in (signals | changes).items() if value is not None})


def ladder(*sparks: float, **changes):
    return [run(spark, chance=0.0003 * (-1) ** number, **changes) for number, spark in enumerate(sparks)]


def advice(found) -> set[Advice]:
    return {decision.advice for decision in found.decisions if 2000 <= decision.speed <= 6000}


def test_two_degrees_while_far_from_best_torque_and_both_rows_around_the_load_move():
    found = torque_proposal(ladder(18, 18, 12, 15, 18.5, 19, 19.5), calibration(), "spark", TorquePolicy())
    assert advice(found) == {Advice.ADD}
    rise = found.after - found.table.grid
    assert rise[3:, 1:] == pytest.approx(2.0, abs=0.11)
    assert found.table.lookup(np.array([4000.0]), np.array([170.0]))[0] == 18.0
    assert found.corrected.lookup(np.array([4000.0]), np.array([170.0]))[0] == pytest.approx(20.0, abs=0.11)
    assert rise[:, 0].tolist() == [0.0] * 5
    assert found.decisions[0].best == pytest.approx(24, abs=1.0)


def test_nothing_goes_in_that_was_not_run_without_knock_nearby():
    found = torque_proposal(ladder(18, 18, 12, 15), calibration(), "spark", TorquePolicy())
    assert (found.after - found.table.grid).max() == pytest.approx(0.5, abs=0.01)
    assert "nothing above 18.0° was run without knock" in " ".join(found.decisions[0].reasons)
    strict = torque_proposal(ladder(18, 18, 12, 15), calibration(), "spark", TorquePolicy(beyond=0.0))
    assert advice(strict) == {Advice.FAR}
    assert (strict.after == strict.table.grid).all()


def test_without_anything_that_hears_knock_no_spark_goes_in_but_marks_will_do():
    deaf = ladder(18, 18, 12, 15, 19.5, 20, knock_retard=None)
    found = torque_proposal(deaf, calibration(), "spark", TorquePolicy())
    assert advice(found) == {Advice.FAR}
    assert "nothing listened" in " ".join(found.decisions[0].reasons)
    marked = ladder(18, 18, 12, 15, 19.5, 20, knock_retard=None, marker=0.0)
    assert advice(torque_proposal(marked, calibration(), "spark", TorquePolicy())) == {Advice.ADD}


def test_beyond_best_torque_the_degree_is_taken_back_and_at_it_kept():
    over = torque_proposal(ladder(18, 18, 12, 15, 16, best=14.0), calibration(), "spark", TorquePolicy())
    assert advice(over) == {Advice.BACK}
    assert (over.after - over.table.grid)[3:, 1:] == pytest.approx(-2.0, abs=0.11)
    at = torque_proposal(ladder(18, 18, 12, 15, 21, best=18.1), calibration(), "spark", TorquePolicy())
    assert advice(at) == {Advice.KEEP}
    assert (at.after == at.table.grid).all()


def test_knock_takes_spark_out_upward_in_load_whatever_torque_says():
    runs = [*ladder(18, 18, 12, 15), run(18.5, knocks=(3800, 4000, 4200))]
    found = torque_proposal(runs, calibration(), "spark", TorquePolicy(knock_margin=2.0))
    at = next(decision for decision in found.decisions if decision.speed == 4000)
    assert at.advice is Advice.KNOCK
    assert at.knocked == pytest.approx(18.5, abs=0.1)
    assert at.after == pytest.approx(18.25 - 2.0, abs=0.05)
    assert (found.after[3:, 3] < found.table.grid[3:, 3]).all()
    beside = next(decision for decision in found.decisions if decision.speed == 5000)
    assert beside.after == 16.5
    far = next(decision for decision in found.decisions if decision.speed == 2000)
    assert far.advice is Advice.ADD


def test_limits_between_columns_follow_the_distance_to_the_table_but_never_what_ran_clean():
    speeds, present = np.arange(2000.0, 6001.0, 1000.0), np.array([20.0, 21.0, 22.0, 23.0, np.nan])
    heard = {0: (20.0, 20.5), 1: (22.6, np.nan), 2: (22.0, 23.0), 3: (23.0, np.nan)}
    limits = knock_limits(speeds, present, heard)
    assert limits[:4] == pytest.approx([20.25, 22.6, 22.5, 23.5])
    assert np.isnan(limits[4])
    assert np.isnan(knock_limits(speeds, present, {0: (20.0, np.nan)})).all()


def test_two_sparks_decide_by_rule():
    gained = torque_proposal(ladder(17, 17, 20, 20, 17, 20), calibration(20.0), "spark", TorquePolicy())
    assert advice(gained) == {Advice.ADD}
    assert "more than chance" in gained.decisions[0].reasons[0]
    flat = ladder(14, 14, 20, 20, 14, 20, 14, 20, best=16.0)
    assert advice(torque_proposal(flat, calibration(20.0), "spark", TorquePolicy())) == {Advice.BACK}
    near = ladder(19.5, 20, 19.5, 20, best=21.0)
    found = torque_proposal(near, calibration(20.0), "spark", TorquePolicy())
    assert advice(found) == {Advice.KEEP}
    assert "told from chance" in found.decisions[0].reasons[0]
    single = torque_proposal(ladder(20, 20), calibration(20.0), "spark", TorquePolicy())
    assert advice(single) == {Advice.NOTHING}


@settings(max_examples=seeds(40, 100))
@given(
    st.floats(10, 34),
    st.lists(st.floats(1800, 6100), max_size=4),
    st.floats(0, 3),
    st.lists(st.tuples(st.integers(0, 5), st.integers(0, 4)), max_size=8),
)
def test_a_round_never_adds_more_than_the_shops_step_nor_moves_pinned_cells(best, knocks, most, cells):
    runs = [*ladder(18, 18, 12, 15, 19, best=best), run(20.0, best=best, knocks=knocks)]
    policy = TorquePolicy(most=most, pinned=tuple(cells), lift=False)
    found = torque_proposal(runs, calibration(), "spark", policy)
    rise = found.after - found.table.grid
    assert rise.max() <= most + 1e-9
    for i, j in cells:
        assert rise[j, i] == 0
        assert found.state[j, i] == "pinned"
    for cluster in found.judged:
        for i, j in cluster.cells:
            assert rise[j, i] <= 0 or cluster.verdict == "noise"
    told = torque_report(found)
    assert len(told["cells"]) == 30
    assert {one["advice"] for one in told["decisions"]} <= {str(one) for one in Advice}


def test_rows_that_were_not_run_are_never_raised():
    level = calibration()
    level = level.with_table(level.table("spark").with_grid(np.full((5, 6), 18.0)))
    found = torque_proposal(ladder(18, 18, 12, 15, 18.5, 19, 19.5), level, "spark", TorquePolicy())
    assert (found.after[:3] == 18.0).all()
    nearer = ladder(18, 18, 12, 15, 18.5, 19, 19.5, pressure=164.0)
    found = torque_proposal(nearer, level, "spark", TorquePolicy())
    assert (found.after[3, 1:] > 18.0).all()
    assert (found.after[4] == 18.0).all(), "180 kPa was never run"
    assert TorquePolicy.model_validate({"lift": True, "add": 0.5}).add == 0.5


def test_what_cannot_be_used_is_said():
    with pytest.raises(BadInput, match="no log holds a pull with torque"):
        torque_proposal([run(18, wheel_torque=None)], calibration(), "spark", TorquePolicy())
    with pytest.raises(BadInput, match="is not a spark table"):
        torque_proposal(ladder(18), pike_base(), "ve_main", TorquePolicy())
    with pytest.raises(BadInput, match="an axis of the table"):
        torque_proposal(ladder(18, manifold_pressure=None), calibration(), "spark", TorquePolicy())
    with pytest.raises(BadInput, match="the keys are"):
        policy_of(TorquePolicy, '{"strength": 3}')


def limit_table(*, cam: bool = False) -> Calibration:
    y = Axis("intake_cam_advance", "deg", frozen([0.0, 20.0])) if cam else None
    values = np.full((2, 4) if cam else 4, 1.0)
    x = Axis("engine_speed", "rpm", frozen([1000.0, 2000.0, 4000.0, 6000.0]))
    table = Table("limit", "Knock limit", "knock_limit", "V", x, y, frozen(values), 0.0, 5.0, 2)
    return Calibration("demo", "Demo", (), (table,))


def noisy(seed=1, *, level=0.4, loud=(), **changes):
    rng = np.random.default_rng(seed)
    speed = np.linspace(900, 4500, 3000)
    heard = level + speed / 4000.0 + 0.05 * rng.normal(size=speed.size)
    retard = np.zeros(speed.size)
    for at in loud:
        heard[at] *= 2.5
        retard[at : at + 20] = 2.0
    return make_log(25, engine_speed=speed, knock_level=heard, knock_retard=retard, **changes)


def test_a_limit_is_the_quantile_of_the_safe_level_times_the_margin():
    found = threshold_proposal(
        [noisy()], limit_table(), "limit", ThresholdPolicy(margin=1.2), [noisy(2, loud=(500, 2000))]
    )
    i = 2
    assert found.base[0, i] == pytest.approx(0.4 + 1.1, abs=0.12)
    assert found.after[0, i] == pytest.approx(np.ceil(found.base[0, i] * 120) / 100)
    assert found.state[0, 3] == "filled"
    assert found.after[0, 3] == found.after[0, 2]
    assert found.safe.now > 0
    assert found.safe.then == 0
    assert (found.caught.events, found.caught.then) == (2, 2)
    assert sum(one["samples"] for one in report(found)["cells"]) == found.samples.sum()


def test_the_cam_angle_counts_where_the_table_has_it_and_pinned_cells_stay():
    cam = np.where(np.arange(3000) % 2 == 0, 0.0, 20.0)
    quiet = noisy(intake_cam_advance=cam)
    found = threshold_proposal([quiet], limit_table(cam=True), "limit", ThresholdPolicy(pinned=((1, 0),)))
    assert found.state[0, 1] == "pinned"
    assert found.after[0, 1] == 1.0
    assert (found.samples[:, :3] > 100).all()
    with pytest.raises(BadInput, match="an axis of the table"):
        threshold_proposal([noisy()], limit_table(cam=True), "limit", ThresholdPolicy())
    with pytest.raises(BadInput, match="no safe log has the knock sensor's level"):
        threshold_proposal([run(18)], limit_table(), "limit", ThresholdPolicy())
    with pytest.raises(BadInput, match="is not a table of knock limits"):
        threshold_proposal([noisy()], pike_base(), "spark_main", ThresholdPolicy())
    with pytest.raises(BadInput, match="drive longer"):
        threshold_proposal([noisy()], limit_table(), "limit", ThresholdPolicy(least=99_000))
