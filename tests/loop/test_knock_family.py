"""Knock on the family: nothing real is called noise, spark falls where each event lay, and noise is mostly told."""

from __future__ import annotations

from functools import cache

import numpy as np

from uchiwa.core.knock.evidence import gather_knock
from uchiwa.core.knock.judgement import ReasonKind, Verdict, clusters
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import proposal_from
from uchiwa.standin.family.knocking import KnockSession, close, session

SEEDS = 30


@cache
def family() -> tuple[KnockSession, ...]:
    """Thirty drives with knock and noise."""
    return tuple(session(number) for number in range(SEEDS))


def test_every_real_event_is_found_and_none_is_called_noise_by_default():
    for it in family():
        knock = gather_knock([it.log], it.table)
        found = [event.event.at for event in knock.events]
        for moment in it.real:
            assert any(-0.1 <= at - moment <= 0.6 for at in found), moment
        for cluster in clusters(knock, it.table):
            if any(close(event.event.at, it.real) for event in cluster.events):
                assert cluster.verdict is not Verdict.NOISE


def test_spark_falls_at_each_real_events_operating_point_by_what_was_seen_and_the_margin():
    events = 0
    for it in family():
        knock = gather_knock([it.log], it.table)
        policy = KnockPolicy()
        proposal = proposal_from(it.table, knock, clusters(knock, it.table), policy)
        speed, pressure = (it.log.quantities[one] for one in ("engine_speed", "manifold_pressure"))
        time = it.log.rasters[0].time
        for moment, degrees in zip(it.real, it.seen, strict=True):
            # Where a creep of half a second has come to its most the engine has moved on: the events it is told by count.
            mine = [event for event in knock.events if -0.1 <= event.event.at - moment <= 0.6]
            assert max(one.event.retard for one in mine) >= degrees - 0.45
            for one in mine:
                at = (np.array([one.x]), np.array([one.y]))
                fall = float(it.table.lookup(*at)[0] - proposal.corrected.lookup(*at)[0])
                assert fall >= one.event.retard + policy.margin - 1e-6
                assert abs(one.speed - np.interp(one.event.at, time, speed.values)) < 1.0
                events += 1
        assert np.isfinite(pressure.values).all()
        assert proposal.unmet == ()
    assert events >= 100


def test_spark_falls_wherever_the_controller_has_learned_to_hold_it_back():
    drives = 0
    for it in family():
        if it.learned is None or not (it.learned > 0).any():
            continue
        knock = gather_knock([it.log], it.table)
        proposal = proposal_from(it.table, knock, clusters(knock, it.table), KnockPolicy())
        read = {one: it.log.quantities[one].values for one in ("engine_speed", "manifold_pressure")}
        at = (read[it.table.x.quantity], read[it.table.y.quantity])
        fall = it.table.lookup(*at) - proposal.corrected.lookup(*at)
        assert (fall >= it.learned - 1e-6)[it.learned > 0].all()
        alone = proposal_from(it.table, knock, clusters(knock, it.table), KnockPolicy(learned=False)).after
        assert (alone >= proposal.after - 1e-9).all()
        drives += 1
    assert drives >= 3


def test_the_cylinder_that_knocks_is_told():
    told = [
        why.words
        for it in family()
        if it.told == "cylinder"
        for cluster in clusters(gather_knock([it.log], it.table), it.table)
        for why in cluster.reasons
        if why.code is ReasonKind.ONE_CYLINDER
    ]
    assert told
    assert all("on cylinder" in one for one in told)


def test_noise_is_judged_as_noise_where_it_stands_alone():
    told = right = safe = 0
    for it in family():
        knock = gather_knock([it.log], it.table)
        for known in (None, gather_knock([it.safer], it.table)):
            for cluster in clusters(knock, it.table, known):
                if all(close(event.event.at, it.noise) for event in cluster.events):
                    told += 1
                    right += cluster.verdict is Verdict.NOISE
                    safe += known is not None
    print(f"\n{right} of {told} places of noise judged as noise ({safe} of them with a safe run beside)")
    assert told >= 100
    assert right >= 0.8 * told
