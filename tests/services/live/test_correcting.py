"""The correction while recording is the proposal on the finished log; overlays go out with leave, in steps, and end."""

from __future__ import annotations

import numpy as np
import pytest

from tests.services.live.driving import begun, driven
from tests.store.conftest import Scene, ready
from uchiwa.core.errors import BadInput
from uchiwa.core.live.limits import LiveLimits
from uchiwa.core.live.overlay import STEP_PERCENT
from uchiwa.core.tables.table import Table
from uchiwa.services.live import correction, passing, watch_over
from uchiwa.services.live.analysis import Analyst
from uchiwa.services.live.driven import allow, driven_by, overlay_for, own_calibration, want
from uchiwa.store import briefs, draft_steps, drafts, live_events, live_overlays, live_passing, live_sessions
from uchiwa.store.calibrations import content
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveSession, LogFile

ON = LiveLimits(on=True, after_s=15, samples=10, seconds=0.5)


def recorded(scene: Scene, seconds: float, seed: int = 3) -> tuple[LiveSession, list[bytes]]:
    drive, batches = driven(seconds, seed)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    return session, batches


def fresh(session: LiveSession) -> LiveSession:
    with unit_of_work():
        return live_sessions.get(session.id)


def keep_limits(session: LiveSession, limits: LiveLimits) -> None:
    with unit_of_work():
        live_sessions.keep_limits(session, limits.model_dump_json())


@pytest.mark.parametrize(
    ("seed", "limits"),
    [
        (3, ON),
        (5, LiveLimits(on=True, after_s=60, coolant=85, samples=40, seconds=2, percent=3, strength=60)),
        (8, LiveLimits(on=True, after_s=0, opening=True, samples=5, seconds=0.2)),
    ],
)
def test_it_is_the_proposal_on_the_finished_log_cell_for_cell(scene: Scene, seed: int, limits: LiveLimits):
    session, _ = recorded(scene, 150, seed)
    keep_limits(session, limits)
    live = Analyst(fresh(session)).analyse(limits)["correction"]
    live_passing.end(session.id)
    with unit_of_work():
        log = LogFile.get_by_id(session.log_id)
    ready(log)
    with unit_of_work():
        finished = correction.work(scene.job, scene.round, fresh(session)).proposal
    told = {(one["i"], one["j"]): one for one in live["cells"]}
    assert any(one["state"] == "changed" for one in told.values())
    assert live["used"] == int(finished.evidence.sieve.used.sum())
    for j, i in np.ndindex(*finished.table.shape):
        if finished.bins.samples[j, i] <= 0:
            assert (i, j) not in told
            continue
        one = told[i, j]
        assert one["after"] == finished.correction.after[j, i], (i, j)
        assert one["state"] == str(finished.correction.state[j, i])
        assert one["samples"] == pytest.approx(float(finished.bins.samples[j, i]), abs=0.051)
    most = limits.percent / 100
    assert (np.abs(finished.correction.factor - 1) <= most + 1e-9).all()


def test_what_it_tells_beside(scene: Scene):
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
    session, _ = recorded(scene, 100)
    found = Analyst(fresh(session)).analyse(LiveLimits())
    assert found["correction"] is None
    assert {"title": "Warm idle"}.items() <= found["items"][0].items()
    assert {one["kind"] for one in found["drives"]} >= {"warm_idle", "cruise"}
    assert found["through"] == fresh(session).batches


def test_the_worker_looks_at_a_session_and_leaves_it_to_others(scene: Scene):
    session, _ = recorded(scene, 30)
    assert watch_over.unclaimed() == session.id
    assert watch_over.claim(session.id, "a")
    assert not watch_over.claim(session.id, "b")
    assert watch_over.claim(session.id, "a")
    assert watch_over.unclaimed() is None
    with unit_of_work():
        LiveSession.update(analyst_until_ms=live_passing.milliseconds() - 1).execute()
    assert watch_over.unclaimed([session.id]) is None
    assert watch_over.claim(session.id, "b")
    live_passing.end(session.id)
    assert not watch_over.claim(session.id, "b")


def corrected(scene: Scene) -> LiveSession:
    """A session whose correction would add fuel in some cells, as the worker has found."""
    session, _ = recorded(scene, 120)
    keep_limits(session, ON)
    found = Analyst(fresh(session)).analyse(ON)
    watch_over.keep(session.id, found)
    return fresh(session)


def heard(session: LiveSession, seconds_ago: float = 0.0) -> None:
    with unit_of_work():
        at = live_passing.milliseconds() - int(1000 * seconds_ago)
        LiveSession.update(heard_ms=at).where(LiveSession.id == session.id).execute()


def next_overlay(session: LiveSession, table: Table) -> int | None:
    """The next that is made for a car that was heard just now."""
    heard(session)
    return watch_over.offer_next(session.id, table)


def test_an_overlay_needs_the_drivers_leave_and_the_tuners_wish(scene: Scene):
    session = corrected(scene)
    with unit_of_work():
        table = briefs.table_under_work(scene.job, scene.round)
    assert next_overlay(session, table) is None
    want(session.id, wanted=True, who=live_events.TUNER)
    assert next_overlay(session, table) is None
    allow(session.id, allowed=True)
    assert next_overlay(session, table) == 1
    with unit_of_work():
        told = overlay_for(fresh(session))
    assert told["number"] == 1
    assert np.abs(np.array(told["factors"]) - 1).max() <= STEP_PERCENT / 100 + 1e-9
    # Nothing further before the car drives by it.
    assert next_overlay(session, table) is None
    driven_by(session.id, 1)
    driven_by(session.id, 1)  # said twice
    assert next_overlay(session, table) == 2
    driven_by(session.id, 2)
    with unit_of_work():
        factors = live_overlays.driven(fresh(session)).factors
    assert np.abs(factors - 1).max() <= 2 * STEP_PERCENT / 100 + 1e-9
    # The driver goes back: what is told is the car's own calibration, and no acknowledgement is taken any more.
    allow(session.id, allowed=False)
    with unit_of_work():
        assert overlay_for(fresh(session))["number"] == 0
    with pytest.raises(BadInput, match="no leave"):
        driven_by(session.id, 2)
    own_calibration(session.id, "asked")
    assert fresh(session).acknowledged == 0
    # Allowed again, what was dropped is not offered any more; it begins from the car's own calibration.
    allow(session.id, allowed=True)
    with unit_of_work():
        assert overlay_for(fresh(session))["number"] == 0
    # A car that is silent may have dropped what it drives by: nothing is made for it meanwhile.
    heard(session, 1.8)
    assert watch_over.offer_next(session.id, table) is None
    assert next_overlay(session, table) == 3
    with unit_of_work():
        again = np.array(overlay_for(fresh(session))["factors"])
        kinds = [one.kind for one in live_events.latest(session.id)]
    assert np.abs(again - 1).max() <= STEP_PERCENT / 100 + 1e-9
    assert kinds == [
        "wanted",
        "allowed",
        "offered",
        "driven",
        "offered",
        "driven",
        "taken_back",
        "dropped",
        "allowed",
        "offered",
    ]


def test_an_overlay_comes_to_an_end_within_its_bounds(scene: Scene):
    session = corrected(scene)
    want(session.id, wanted=True, who=live_events.TUNER)
    allow(session.id, allowed=True)
    with unit_of_work():
        table = briefs.table_under_work(scene.job, scene.round)
    for _ in range(12):
        number = next_overlay(session, table)
        if number is None:
            break
        driven_by(session.id, number)
    assert number is None
    with unit_of_work():
        factors = live_overlays.driven(fresh(session)).factors
    assert 0.01 < np.abs(factors - 1).max() <= ON.percent / 100 + 1e-9
    live_passing.end(session.id)
    with unit_of_work():
        assert overlay_for(fresh(session))["number"] == 0


def ended(scene: Scene) -> LiveSession:
    session = corrected(scene)
    live_passing.end(session.id)
    with unit_of_work():
        log = LogFile.get_by_id(session.log_id)
    ready(log)
    return fresh(session)


def test_some_all_or_none_is_taken_and_can_be_undone(scene: Scene):
    session = ended(scene)
    with unit_of_work():
        work = correction.work(scene.job, scene.round, session)
        before = work.drafted.grid
        cells = np.argwhere(work.to_take)
        chosen = np.zeros(before.shape, dtype=bool)
        chosen[tuple(cells[0])] = True
        correction.take(scene.acting(), session, chosen)
    with unit_of_work():
        now = content(drafts.current(scene.job).calibration).table("ve_main").grid
        assert ((now != before) == chosen).all()
        assert fresh(session).decided == correction.TAKEN
        correction.take(scene.acting(), session, None)
    with unit_of_work():
        now = content(drafts.current(scene.job).calibration).table("ve_main").grid
        assert (now != before).sum() == len(cells)
        for _ in range(2):
            draft_steps.undo(scene.acting())
    with unit_of_work():
        assert (content(drafts.current(scene.job).calibration).table("ve_main").grid == before).all()
        correction.clear(session)
        assert fresh(session).decided == correction.CLEARED
        correction.look_again(session)
        assert fresh(session).decided == ""


def test_without_limits_that_are_on_there_is_nothing_to_take(scene: Scene):
    session = ended(scene)
    keep_limits(session, LiveLimits())
    with unit_of_work(), pytest.raises(BadInput, match="no correction ran"):
        correction.work(scene.job, scene.round, fresh(session))
