"""Retard by cylinder, and what a controller has learned to hold back, as evidence of its own."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_log
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.checks import ExaminedLog, examine
from uchiwa.core.knock.events import Sign, log_events
from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.judgement import ReasonKind, Verdict, clusters
from uchiwa.core.knock.retard import LEARNED, degrees_out, includes_learned, total_retard
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import proposal_from
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.quantities.naming import match_name
from uchiwa.core.quantities.spark_quantities import KNOCK_BY_CYLINDER
from uchiwa.core.tables.table import Axis, Table, frozen

TABLE = Table(
    "spark", "Spark", "spark_advance", "deg", Axis("engine_speed", "rpm", frozen([1000, 2000, 3000, 4000, 5000])),
    Axis("manifold_pressure", "kPa", frozen([40, 80, 120, 160])), frozen(np.full((4, 5), 25.0)), decimals=2,
)  # fmt: skip


@pytest.mark.parametrize(
    ("name", "quantity"),
    [
        ("Knock Retard Cyl 3", KNOCK_BY_CYLINDER[2]),
        ("KR Cyl#1", KNOCK_BY_CYLINDER[0]),
        ("Cyl2 Knock Retard", KNOCK_BY_CYLINDER[1]),
        ("Knock correction cylinder 12", KNOCK_BY_CYLINDER[11]),
        ("Klopfrücknahme Zyl. 4", KNOCK_BY_CYLINDER[3]),
        ("knock_retard_cylinder_6", KNOCK_BY_CYLINDER[5]),
        ("Knock Retard", "knock_retard"),
        ("Learned Knock Retard", LEARNED),
        ("Knock Learn", LEARNED),
        ("Cylinder 1 temperature", None),
    ],
)
def test_names(name, quantity):
    found = match_name(name)
    assert (found.quantity if found is not None else None) == quantity


def whole(speed=3000.0, pressure=150.0, size=400, **more) -> Log:
    return make_log(
        20.0, engine_speed=np.full(size, speed), manifold_pressure=pressure, throttle_position=95.0, **more
    )  # fmt: skip


def bumps(*at: int, degrees: float = 2.0, size: int = 400) -> np.ndarray:
    retard = np.zeros(size)
    for one in at:
        retard[one : one + 6] = degrees
    return retard


def test_each_cylinder_is_listened_to_on_its_own_time_base():
    slow = whole()
    quick = Raster(np.arange(2000) / 100.0, (
        Channel("KR Cyl 1", "deg", np.zeros(2000), KNOCK_BY_CYLINDER[0]),
        Channel("KR Cyl 3", "deg", -np.where(np.arange(2000) == 701, 3.5, 0.0), KNOCK_BY_CYLINDER[2]),
    ))  # fmt: skip
    log = Log("x", (*slow.rasters, quick))
    (event,) = log_events(log)
    assert (event.at, event.sign, event.retard, event.cylinder) == (pytest.approx(7.01), Sign.RETARD, 3.5, 3)
    assert on_one_base(log)[1]["knock_retard"].max() == 3.5
    knock = gather_knock([log], TABLE)
    assert knock.worst.max() == 3.5
    assert knock.heard


def test_two_cylinders_at_once_are_one_event_of_the_worse():
    log = whole(**{KNOCK_BY_CYLINDER[0]: bumps(100), KNOCK_BY_CYLINDER[3]: bumps(101, 300, degrees=3.0)})
    events = log_events(log)
    assert [(event.retard, event.cylinder) for event in events] == [(3.0, 4), (3.0, 4)]


def test_always_the_same_cylinder_is_told_and_weighs_nothing():
    log = whole(**{KNOCK_BY_CYLINDER[0]: bumps(), KNOCK_BY_CYLINDER[1]: bumps(50, 120, 190, 260, 330)})
    (cluster,) = clusters(gather_knock([log], TABLE), TABLE)
    (told,) = [reason for reason in cluster.reasons if reason.code is ReasonKind.ONE_CYLINDER]
    assert told.weight == 0
    assert "5 of 5 on cylinder 2" in told.words


@given(st.floats(0.6, 9.0), st.floats(1100, 4900), st.floats(45, 155), st.booleans())
def test_what_is_learned_goes_out_of_the_table_where_the_engine_was(degrees, speed, pressure, negative):
    log = whole(speed, pressure, **{LEARNED: -degrees if negative else degrees})
    knock = gather_knock([log], TABLE)
    proposal = proposal_from(TABLE, knock, clusters(knock, TABLE), KnockPolicy())
    at = np.array([speed]), np.array([pressure])
    assert (TABLE.lookup(*at) - proposal.corrected.lookup(*at))[0] >= degrees - 1e-6
    assert (proposal.after <= TABLE.grid).all()


def test_learned_retard_is_no_noise_and_is_left_to_the_controller_only_if_a_person_says_so():
    held = np.where(np.arange(400) > 200, 1.0, 0.0)
    log = make_log(
        20.0, engine_speed=np.full(400, 2600.0), manifold_pressure=60.0, throttle_position=10.0, **{LEARNED: held}
    )  # fmt: skip
    knock = gather_knock([log], TABLE)
    judged = clusters(knock, TABLE)
    assert [one.verdict for one in judged] != [Verdict.NOISE]
    assert knock.count.sum() == 0
    assert knock.events[0].event.sign is Sign.LEARNED
    asks = proposal_from(TABLE, knock, judged, KnockPolicy())
    assert (asks.after < TABLE.grid).any()
    for policy in (KnockPolicy(learned=False, noise=(1,)), KnockPolicy(noise=(1,))):
        assert (proposal_from(TABLE, knock, judged, policy).after == TABLE.grid).all()


def test_a_safe_run_that_still_holds_what_was_learned_makes_it_no_noise():
    learned = whole(spark_advance=25.0, **{LEARNED: np.where(np.arange(400) % 100 > 50, 2.0, 0.0)})
    safer = whole(spark_advance=17.0, **{LEARNED: np.where(np.arange(400) % 100 > 50, 2.0, 0.0)})
    knock = gather_knock([learned], TABLE)
    (cluster,) = clusters(knock, TABLE, gather_knock([safer], TABLE))
    assert cluster.verdict is not Verdict.NOISE
    assert not {ReasonKind.STAYS, ReasonKind.STAYS_WHEN_SAFE} & {reason.code for reason in cluster.reasons}


def test_learned_retard_is_added_unless_the_controller_tells_both_in_one():
    learned = np.where(np.arange(400) > 100, 2.0, 0.0)
    apart = bumps(200, 300, degrees=3.0)
    assert not includes_learned(apart, learned)
    assert total_retard({"knock_retard": apart, LEARNED: learned}).max() == 5.0
    together = learned + apart
    assert includes_learned(together, learned)
    assert total_retard({"knock_retard": together, LEARNED: learned}) == pytest.approx(together)
    worst = {
        how: max(event.retard for event in log_events(whole(knock_retard=retard, **{LEARNED: learned})))
        for how, retard in (("apart", apart), ("together", together))
    }
    assert worst == {"apart": 5.0, "together": 5.0}
    assert total_retard({}) is None


def test_knock_heard_just_after_coming_into_what_was_learned_is_heard():
    learned = np.where(np.arange(400) >= 100, 1.5, 0.0)
    (event,) = log_events(whole(knock_retard=bumps(103, degrees=2.0), **{LEARNED: learned}))
    assert (event.sign, event.retard, event.learned) == (Sign.RETARD, 3.5, 1.5)


def test_spark_that_was_given_is_no_retard():
    both = np.array([-3.0, -1.0, 0.0, 2.0, 4.0])
    assert degrees_out(both, LEARNED).tolist() == [3.0, 1.0, 0.0, 0.0, 0.0]
    assert degrees_out(np.array([0.0, 2.0]), LEARNED).tolist() == [0.0, 2.0]
    assert degrees_out(both).tolist() == [3.0, 1.0, 0.0, 2.0, 4.0]


def test_a_check_asks_to_clear_what_was_learned():
    log = whole(coolant_temperature=90.0, intake_air_temperature=25.0, **{LEARNED: 2.5})
    found = [one for one in examine(ExaminedLog(log, CarFile())) if one.rule == "learned_retard"]
    assert [one.rule for one in found] == ["learned_retard"]
    assert "2.5°" in found[0].tuner


def test_a_run_that_held_what_was_learned_is_not_clean():
    speed = np.linspace(2000, 5500, 300)
    quantities = {"engine_speed": speed, "wheel_torque": 200.0, "spark_advance": 20.0, "manifold_pressure": 150.0}
    (pull,) = pulls_of(make_log(25.0, **quantities, knock_retard=0.0, **{LEARNED: 1.0}))
    assert total_retard(pull.signals).min() == 1.0
