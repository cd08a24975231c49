import json

import numpy as np
import pytest

from tests.store.conftest import log_text
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services import fuel, importing
from uchiwa.standin.cars import pike_base
from uchiwa.store import calibrations, draft_steps, drafts, events, jobs, queue, revisions
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import Event, Round, StoredCalibration


@pytest.fixture
def at_fuel(scene):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    return scene


def take(scene, chosen=None, version=None):
    with unit_of_work():
        work = fuel.fuel_work(scene.job, scene.round)
        return fuel.take(scene.acting(version), work, chosen)


def table_of(scene):
    with unit_of_work():
        return calibrations.content(drafts.current(scene.job).calibration).table("ve_main").grid.copy()


def test_taking_changes_the_draft_and_says_with_what(at_fuel):
    before = table_of(at_fuel)
    event = take(at_fuel)
    with unit_of_work():
        work = fuel.fuel_work(at_fuel.job, at_fuel.round)
    assert np.array_equal(table_of(at_fuel), work.proposal.correction.after)
    assert not work.to_take.any()
    inputs = json.loads(event.inputs)
    assert inputs["samples"] == inputs["samples_used"] + sum(inputs["samples_left_out"].values())
    assert len(inputs["taken"]) == (before != table_of(at_fuel)).sum()
    assert inputs["base_revision"] == 0


def test_taking_chosen_cells_leaves_the_others(at_fuel):
    before = table_of(at_fuel)
    with unit_of_work():
        waiting = fuel.fuel_work(at_fuel.job, at_fuel.round).to_take
    chosen = np.zeros_like(waiting)
    j, i = np.argwhere(waiting)[0]
    chosen[j, i] = True
    take(at_fuel, chosen)
    assert np.argwhere(before != table_of(at_fuel)).tolist() == [[j, i]]


def test_taking_twice_does_not_correct_twice(at_fuel):
    take(at_fuel)
    with pytest.raises(BadInput, match="nothing among these cells"):
        take(at_fuel)


def test_a_stale_draft_is_refused_and_kept(at_fuel):
    with unit_of_work():
        version = drafts.current(at_fuel.job).version
    with unit_of_work():
        work = fuel.fuel_work(at_fuel.job, at_fuel.round)
    chosen = work.to_take.copy()
    chosen[: chosen.shape[0] // 2] = False
    take(at_fuel, chosen)
    stands = table_of(at_fuel)
    with pytest.raises(drafts.StaleDraftError):
        take(at_fuel, None, version)
    assert np.array_equal(table_of(at_fuel), stands)
    with unit_of_work():
        assert Event.select().where(Event.kind == "take").count() == 1


def test_putting_back_restores_and_is_remembered(at_fuel):
    before = table_of(at_fuel)
    event = take(at_fuel)
    with unit_of_work():
        draft_steps.put_back(at_fuel.acting(), event.id)
        kinds = [(one.kind, one.put_back) for one in events.history(at_fuel.job)]
        undoing = Event.select().where(Event.kind == events.UNDO).get()
        assert jobs.facts_of([at_fuel.round])[at_fuel.round.id].taken == 0
    assert np.array_equal(table_of(at_fuel), before)
    assert kinds == [("take", True), ("start", False)]
    assert undoing.sentence == f"Undid: {event.sentence}"
    with pytest.raises(draft_steps.CannotPutBackError), unit_of_work():
        draft_steps.put_back(at_fuel.acting(), event.id)


def test_freezing_ends_the_round_and_opens_the_next(at_fuel):
    take(at_fuel)
    with unit_of_work():
        revision = revisions.freeze(at_fuel.acting(), "flash it")
        rounds = jobs.rounds(at_fuel.job)
        draft = drafts.current(at_fuel.job)
        frozen = revisions.numbered(at_fuel.job, 1)
        content = calibrations.content(frozen.calibration)
    assert (revision.number, draft.base.number, len(rounds)) == (1, 1, 2)
    assert rounds[0].returned_at is not None
    assert np.array_equal(content.table("ve_main").grid, table_of(at_fuel))
    assert frozen.calibration.content_hash == calibration_json.content_hash(content)
    with pytest.raises(drafts.StaleDraftError), unit_of_work():
        revisions.freeze(at_fuel.acting(draft.version, round_=rounds[0]), "again")


def test_equal_calibrations_are_kept_once(scene):
    with unit_of_work():
        shop = scene.user.shop_id
        assert calibrations.keep(shop, pike_base()).id == calibrations.keep(shop, pike_base()).id
        assert StoredCalibration.select().count() == 1


def test_the_queue_asks_no_more_for_more_jobs(scene):
    def statements(count):
        asked = []
        original = database.execute_sql

        def counted(sql, *rest, **named):
            asked.append(sql)
            return original(sql, *rest, **named)

        with unit_of_work():
            while len(queue.queue(scene.user.shop_id)) < count:
                jobs.create(scene.user, "Another", "Corvid Pike", "", pike_base())
            database.execute_sql = counted
            try:
                queue.queue(scene.user.shop_id)
            finally:
                database.execute_sql = original
        return len(asked)

    assert statements(2) == statements(12)


def test_the_queue_finds_by_car_customer_and_log(scene):
    scene.receive(log_text(), "hill road.csv")
    with unit_of_work():
        for text, number in (("pike", 1), ("custom", 1), ("hill", 1), ("nothing", 0), ("%", 0)):
            assert len(queue.queue(scene.user.shop_id, queue.JobFilter(text))) == number, text


def test_policies_stay_with_the_round(scene):
    with unit_of_work():
        policy = fuel.policy_of(scene.round)
        fuel.keep_policy(scene.round, policy.model_copy(update={"strength": 40.0, "pinned": ((1, 2),)}))
        kept = fuel.policy_of(Round.get_by_id(scene.round.id))
    assert (kept.strength, kept.pinned) == (40.0, ((1, 2),))
