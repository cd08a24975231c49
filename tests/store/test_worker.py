"""Imports in processes of their own: budgets, tries, fairness, and what a paused worker writes late."""

from __future__ import annotations

import io
import os
import signal
import time
from datetime import timedelta

import pymysql
import pytest
from peewee import OperationalError

from tests.store.conftest import log_text
from uchiwa.core.logs.recognition.knowledge import Assignment, channel_key
from uchiwa.services import importing, summaries
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, import_results, jobs, leases, levels, log_states, untold, uploads, worker_beats
from uchiwa.store.clock import now
from uchiwa.store.database import has_no_room, unit_of_work
from uchiwa.store.models import LogChannel, LogFile, Round, WorkerBeat
from uchiwa.worker import budget, child, import_process, worker
from uchiwa.worker.telling import Telling


def state(log: LogFile) -> tuple[str, int, str]:
    with unit_of_work():
        row = LogFile.get_by_id(log.id)
    return row.state, row.attempts, row.message


def run(slots: int = 2, seconds: float = 120) -> None:
    """A worker until nothing waits."""
    at_work = worker.Imports(slots)
    deadline = time.monotonic() + seconds
    try:
        while at_work.running or leases.waiting():
            assert time.monotonic() < deadline
            at_work.look_after()
            at_work.fill()
            at_work.wait(0.05)
    finally:
        at_work.stop()


def test_good_and_bad_files_beside_each_other(scene):
    good, _ = scene.receive(log_text())
    blanks, _ = scene.receive(" " * 22_000 + "\n1,2\n", "blanks.csv")
    binary, _ = scene.receive(b"PAR1" + os.urandom(4000), "broken.parquet")
    run()
    assert state(good)[0] == log_states.READY
    assert state(blanks)[0] == state(binary)[0] == log_states.REFUSED
    with unit_of_work():
        row = LogFile.get_by_id(good.id)
        assert row.reading == 1
        assert LogChannel.select().where(LogChannel.log == row, LogChannel.levels.is_null()).count() == 0


def test_a_file_that_takes_too_long_is_ended_and_refused_at_the_first_try(scene, monkeypatch):
    slow, _ = scene.receive(log_text())
    quick, _ = scene.receive(log_text(2))
    real = import_process.budget_of
    monkeypatch.setattr(
        import_process,
        "budget_of",
        lambda size: budget.Budget(0.0 if size == slow.size else real(size).seconds, real(size).room_bytes),
    )
    assert slow.size != quick.size
    run()
    assert state(quick)[0] == log_states.READY
    kind, attempts, message = state(slow)
    assert (kind, attempts) == (log_states.REFUSED, 0)
    assert message == str(import_process.TOO_LONG)
    monkeypatch.undo()
    with unit_of_work():
        import_results.read_again([LogFile.get_by_id(slow.id)])
    run()
    assert state(slow)[0] == log_states.READY


def test_a_file_that_wants_too_much_memory_says_so(scene, monkeypatch):
    log, _ = scene.receive(log_text(size=4000))
    monkeypatch.setattr(import_process, "budget_of", lambda _size: budget.Budget(60.0, 3 << 20))
    run()
    kind, _, message = state(log)
    assert kind == log_states.REFUSED
    assert message in (import_process.TOO_LARGE, leases.WORN_OUT)


def test_a_process_that_dies_costs_a_try_and_a_database_that_is_away_none(scene):
    log, _ = scene.receive(log_text())
    held = leases.claim(log.id)
    leases.release(held)
    assert state(log)[:2] == (log_states.STORED, 1)
    held = leases.claim(log.id)
    leases.release(held, counts=False)
    assert state(log)[:2] == (log_states.STORED, 1)
    for _ in range(2):
        leases.release(leases.claim(log.id))
    assert leases.claim(log.id) is None
    assert not importing.import_log(log.id)
    assert state(log)[0] == log_states.REFUSED


def test_a_process_whose_database_is_gone_ends_without_a_traceback(capfd):
    def lost() -> None:
        raise OperationalError(2003, "Can't connect to MySQL server on '127.0.0.1' ([Errno 111] Connection refused)")

    def broken() -> None:
        raise KeyError("a fault of ours")

    with pytest.raises(SystemExit) as ended:
        child.do(lost)
    assert ended.value.code == child.NO_DATABASE
    assert "Traceback" not in "".join(capfd.readouterr())
    with pytest.raises(KeyError):
        child.do(broken)


def test_one_shop_leaves_room_for_another(scene):
    for seed in range(5):
        scene.receive(log_text(seed))
    with unit_of_work():
        other = accounts.create_user(accounts.create_shop("Other"), "other@example.org", "Other", "another long one")
        job = jobs.create(other, "Customer", "Pike", "", pike_base())
        round_ = jobs.rounds(job)[0]
    theirs, _ = uploads.receive(job, round_, "theirs.csv", io.BytesIO(log_text(9).encode()))
    order = []
    for _ in range(3):
        found = leases.next_waiting(2, 2)
        order.append(found)
        assert leases.claim(found) is not None
    assert theirs.id == order[1]
    assert leases.next_waiting(2, 2) is None
    assert leases.next_waiting(3, 3) is not None


def test_one_link_leaves_room_for_another_of_the_same_shop(scene):
    for seed in range(4):
        scene.receive(log_text(seed))
    with unit_of_work():
        job = jobs.create(scene.user, "Another customer", "Pike", "", pike_base())
        round_ = jobs.rounds(job)[0]
    theirs, _ = uploads.receive(job, round_, "theirs.csv", io.BytesIO(log_text(9).encode()))
    order = []
    while (found := leases.next_waiting(3, 2)) is not None:
        order.append(found)
        held = leases.claim(found)
    assert order.index(theirs.id) == 1
    assert len(order) == 3
    leases.note_seconds(held, 80.0)
    leases.release(held)
    assert leases.next_waiting(5, 3) is None, "one whose files took long has one read at a time"


def test_of_two_links_the_smaller_file_comes_first_and_slow_ones_last(scene):
    large, _ = scene.receive(log_text(size=400))
    with unit_of_work():
        job = jobs.create(scene.user, "Another customer", "Pike", "", pike_base())
        round_ = jobs.rounds(job)[0]
    small, _ = uploads.receive(job, round_, "small.csv", io.BytesIO(log_text(size=40).encode()))
    assert leases.next_waiting(3, 2) == small.id
    leases.note_seconds(small, 80.0)
    assert leases.next_waiting(3, 2) == large.id


def test_a_log_that_somebody_holds_is_passed_over(scene):
    first, _ = scene.receive(log_text(1))
    second, _ = scene.receive(log_text(2))
    assert leases.next_waiting(3, 3) == first.id
    assert leases.next_waiting(3, 3, {first.id}) == second.id


def test_what_a_paused_worker_writes_late_is_refused(scene):
    log, _ = scene.receive(log_text())
    paused = leases.claim(log.id)
    with unit_of_work():
        LogFile.update(lease_until=now() - timedelta(seconds=1)).where(LogFile.id == log.id).execute()
    assert importing.import_log(log.id)
    with unit_of_work():
        before = [channel.id for channel in LogChannel.select().order_by(LogChannel.id)]
    assert not importing.perform(paused)
    for late in (
        lambda: import_results.progress(paused, 50, "late"),
        lambda: importing.refuse(paused, "Late."),
        lambda: import_results.siblings(paused, 2),
        lambda: import_results.clear(paused),
    ):
        with pytest.raises(leases.LeaseLostError):
            late()
    leases.release(paused)
    with unit_of_work():
        assert [channel.id for channel in LogChannel.select().order_by(LogChannel.id)] == before
    assert state(log)[0] == log_states.READY


def test_a_stopped_process_is_taken_over_from_while_it_sleeps(scene):
    log, _ = scene.receive(log_text(size=3000))
    under_way = import_process.begin(leases.claim(log.id))
    os.kill(under_way.child.process.pid, signal.SIGSTOP)
    try:
        leases.let_go(under_way.log)
        with unit_of_work():
            LogFile.update(lease_until=now() - timedelta(seconds=1)).where(LogFile.id == log.id).execute()
        assert importing.import_log(log.id)
    finally:
        os.kill(under_way.child.process.pid, signal.SIGCONT)
    under_way.child.process.join(60)
    assert state(log)[0] == log_states.READY
    with unit_of_work():
        assert LogFile.get_by_id(log.id).reading == 1


def test_a_channel_put_right_while_its_log_is_read_is_read_anew(scene):
    log, _ = scene.receive(log_text())
    held = leases.claim(log.id)
    with unit_of_work():
        import_results.read_again([LogFile.get_by_id(log.id)])
    with pytest.raises(leases.LeaseLostError):
        import_results.progress(held, 10, "reading")
    assert importing.import_log(log.id)


def test_leases_and_beats_of_the_future_are_not_believed(scene):
    log, _ = scene.receive(log_text())
    assert leases.claim(log.id) is not None
    with unit_of_work():
        LogFile.update(lease_until=now() + timedelta(hours=2)).where(LogFile.id == log.id).execute()
        WorkerBeat.create(name="dead", at=now() + timedelta(hours=2))
    assert not worker_beats.alive()
    worker_beats.beat("alive")
    assert worker_beats.alive()
    leases._held.clear()
    with unit_of_work():
        LogFile.update(lease_until=now() + timedelta(hours=2)).where(LogFile.id == log.id).execute()
    assert importing.import_log(log.id)


def test_a_log_that_is_shown_has_its_pyramids(scene, monkeypatch):
    """Whoever opened it between the two would build them beside the worker, and not see them."""
    seen = []

    def look(round_id):
        with unit_of_work():
            seen.append((LogFile.get(LogFile.round == round_id).state, levels.missing()))

    monkeypatch.setattr(importing, "tell_if_all_are_there", look)
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    assert seen == [(log_states.READY, [])]


def cells(scene) -> int | None:
    with unit_of_work():
        return Round.get_by_id(scene.round.id).cells


def tell(telling: Telling) -> None:
    """What a worker does beside its imports, until it is done with all it can tell."""
    deadline = time.monotonic() + 60
    telling.look_after()
    while telling.child is not None:
        assert time.monotonic() < deadline
        time.sleep(0.05)
        telling.look_after()


def test_what_a_round_shows_is_told_beside_the_imports_once_all_files_are_there(scene):
    scene.receive(log_text())
    second, _ = scene.receive(log_text(seed=2), "second.csv")
    held = leases.claim(second.id)
    first = leases.next_waiting(3, 3)
    at_work = worker.Imports(4)
    at_work.fill()
    while at_work.running:
        at_work.wait(0.05)
        at_work.look_after()
    assert state(LogFile(id=first))[0] == log_states.READY
    assert untold.next_round() is None, "the second is on its way"
    leases.release(held, counts=False)
    run()
    assert cells(scene) is None
    assert untold.next_round([scene.round.id]) is None
    tell(Telling())
    assert cells(scene) > 0
    assert untold.next_round() is None


def test_a_log_that_fails_again_and_again_keeps_nobody_from_being_told(scene, monkeypatch):
    """The first leaves telling to the second, for that still waits; the second never comes to an end."""
    first, _ = scene.receive(log_text())
    second, _ = scene.receive(log_text(seed=2), "second.csv")
    importing.import_log(first.id)
    assert untold.next_round() is None
    monkeypatch.setattr(untold, "PATIENCE", timedelta(0))
    assert untold.next_round() == scene.round.id, "nobody waits for ever"
    monkeypatch.undo()

    def fails(_log):
        raise ZeroDivisionError

    monkeypatch.setattr(importing, "read_and_check", fails)
    for _ in range(leases.ATTEMPTS):
        with pytest.raises(ZeroDivisionError):
            importing.import_log(second.id)
    assert not importing.import_log(second.id)
    tell(Telling())
    assert cells(scene) > 0


def test_telling_that_fails_is_tried_again_later_and_others_come_first(scene, monkeypatch):
    with unit_of_work():
        untold.note(scene.round.id)
        Round.update(policy="not a policy").where(Round.id == scene.round.id).execute()
    telling = Telling()
    tell(telling)
    assert untold.next_round() == scene.round.id
    monkeypatch.setattr("uchiwa.worker.telling._PAUSE_S", 0.0)
    with unit_of_work():
        Round.update(policy="{}").where(Round.id == scene.round.id).execute()
    later = Telling()
    tell(later)
    assert untold.next_round() is None


def test_a_pyramid_that_was_not_built_is_built_by_the_next_tidying(scene):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    with unit_of_work():
        LogChannel.update(levels=None).where(LogChannel.log == log).execute()
    assert [one.id for one in levels.missing()] == [log.id]
    worker.tidy()
    assert levels.missing() == []


def test_a_log_is_what_it_was_read_as_last(scene):
    """What was worked out from a log before it was read anew is found no more."""
    from uchiwa.services import fuel

    log, _ = scene.receive(log_text(trim=5.0))
    importing.import_log(log.id)
    with unit_of_work():
        before = fuel.fuel_work(scene.job, scene.round)
        import_results.read_again(list(before.logs))
        from uchiwa.store import memory

        row = LogFile.get_by_id(log.id)
        key = channel_key("short_term_trim", "%")
        memory.remember(scene.job.car, row.header, key, Assignment(None), scene.user.shop_id)
    importing.import_log(log.id)
    with unit_of_work():
        assert LogFile.get_by_id(log.id).reading == 2
        after = fuel.fuel_work(scene.job, scene.round)
    used = before.proposal.evidence.sieve.used & after.proposal.evidence.sieve.used
    ratio = before.proposal.evidence.error[used] / after.proposal.evidence.error[used]
    assert used.sum() > 100
    assert ratio.mean() == pytest.approx(1.05, abs=0.002)


def test_a_full_disk_costs_a_file_no_try_and_is_tried_again_later(scene):
    """The database is at fault, not the file: it is never refused for that."""

    class Child:
        over = True

        def close(self) -> int:
            return import_process.NO_DATABASE

    log, _ = scene.receive(log_text())
    at_work = worker.Imports(1)
    for _ in range(2 * leases.ATTEMPTS):
        held = leases.claim(log.id)
        at_work.running = [import_process.Importing(held, Child(), time.monotonic() + 60)]
        at_work.look_after()
        assert state(log)[:2] == (log_states.STORED, 0)
        at_work.fill()
        assert at_work.running == [], "it waits a little first"
    assert has_no_room(pymysql.err.OperationalError(1114, "The table is full"))
    assert not has_no_room(pymysql.err.OperationalError(1146, "no such table"))


def test_a_round_that_goes_while_it_is_told_of_is_told_of_no_more(scene, monkeypatch):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    look = summaries.summary_of

    def look_and_lose(job, round_):
        found = look(job, round_)
        jobs.drop(job)
        return found

    monkeypatch.setattr(summaries, "summary_of", look_and_lose)
    summaries.tell(scene.round.id)
    with unit_of_work():
        assert Round.get_or_none(Round.id == scene.round.id) is None
    summaries.tell(scene.round.id)
