"""Sessions begun, fed, broken, gone on with and ended; nothing that was acknowledged is lost, and nothing comes twice."""

from __future__ import annotations

import hashlib
import io
import threading
from datetime import timedelta

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.seeds import seeds
from tests.services.live.driving import begun, driven, opening_of
from tests.store.conftest import Scene, ready
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers import read_log
from uchiwa.services.live import growing, passing
from uchiwa.store import (
    archive_in,
    archive_out,
    live_events,
    live_passing,
    live_sessions,
    log_files,
    log_states,
    ready_logs,
    samples,
    shops,
    uploads,
)
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.live_passing import OverError, RunningAlreadyError
from uchiwa.store.models import LiveSession, LogFile, LogRawChunk

ONE_DRIVE = driven(4)


def log_of(session: LiveSession) -> LogFile:
    with unit_of_work():
        return LogFile.get_by_id(session.log_id)


def session_of(session: LiveSession) -> LiveSession:
    with unit_of_work():
        return live_sessions.get(session.id)


def rows_of(drive) -> np.ndarray:
    return np.array(drive.rows)


def test_a_session_becomes_an_ordinary_log_equal_to_the_cars_own(scene: Scene):
    drive, batches = driven(60)
    session, _ = begun(scene, drive)
    assert log_of(session).state == log_states.RECORDING
    for batch in batches:
        assert passing.take(session, [batch]).through == int(batch.split(b",")[0].split(b":")[1])
    assert live_passing.end(session.id)
    log = ready(log_of(session))
    with unit_of_work():
        kept = LogFile.get_by_id(log.id)
        stored = samples.read_whole(kept)
    own = drive.recording()
    assert kept.state == log_states.READY
    assert kept.name == "Live 1, cruise"
    assert stored.notes["revision"] == drive.revision
    found = stored.quantities
    passed = {one.name for one in drive.channels}
    for channel in own.rasters[0].channels:
        if channel.name in passed:
            assert found[channel.quantity].values.tolist() == pytest.approx(channel.values.tolist(), abs=1e-9), (
                channel.name
            )
    assert stored.rasters[0].time.tolist() == (own.rasters[0].time - own.rasters[0].time[0]).tolist()


def test_the_raw_session_is_a_file_like_any_other(scene: Scene):
    """Its hash is that of its bytes, as archives and backups ask for; sent again, it is known."""
    drive, batches = driven(5)
    kept = []
    for _ in range(2):
        session, _ = begun(scene, drive)
        passing.take(session, batches)
        live_passing.end(session.id)
        ready(log_of(session))
        with unit_of_work():
            kept.append((log_of(session), uploads.whole(log_of(session))))
    for log, data in kept:
        assert hashlib.sha256(data).hexdigest() == log.content_hash
        assert len(data) == log.size
        twin, new = scene.receive(data, "again.live")
        assert (twin.id, new) == (log.id, False)
    assert kept[0][0].content_hash != kept[1][0].content_hash  # driven twice, twice there
    file = io.BytesIO()
    with unit_of_work():
        archive_out.export(scene.job, file)
    with unit_of_work():
        other, _ = archive_in.bring_in(archive_in.open_archive(file, "copy.zip"), scene.user)
        brought = LogFile.select().where(LogFile.job == other).order_by(LogFile.id)
        assert [one.content_hash for one in brought] == [log.content_hash for log, _ in kept]


def test_nobody_begins_sessions_without_end(scene: Scene, monkeypatch):
    drive, batches = driven(2)
    monkeypatch.setattr(live_passing, "HOURLY", 2)
    for _ in range(2):
        session, _ = begun(scene, drive)
        passing.take(session, batches[:1])
        live_passing.end(session.id)
    with pytest.raises(BadInput, match=r"within an hour.*wait a little"):
        begun(scene, drive)


def test_batches_twice_out_of_order_and_from_the_future(scene: Scene):
    drive, batches = driven(10)
    session, _ = begun(scene, drive)
    assert passing.take(session, batches[:3]).through == 3
    assert passing.take(session, batches[1:3]).through == 3  # sent again after a break
    with pytest.raises(BadInput, match=r"batch 6 came, and 4 is next.*send 4 first"):
        passing.take(session, [batches[5]])
    assert passing.take(session, batches[2:6]).through == 6
    live_passing.end(session.id)
    with unit_of_work():
        whole = uploads.whole(log_of(session))
        assert LogRawChunk.select().where(LogRawChunk.log == session.log_id).count() == 7
    assert read_log(whole, "x").rasters[0].time.size == 6 * 25


@settings(max_examples=seeds(8, 40), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_whatever_is_sent_in_whatever_order_each_batch_is_kept_once(scene: Scene, data):
    """Against a list that does the same: what follows on is kept, what is known is passed over, a gap keeps nothing."""
    drive, batches = ONE_DRIVE
    session, _ = begun(scene, drive)
    opening = session_of(session).bytes
    through = 0
    for _ in range(data.draw(st.integers(1, 5), label="messages")):
        first = data.draw(st.integers(max(1, through - 2), min(through + 2, len(batches))), label="first")
        numbers = list(range(first, min(first + data.draw(st.integers(1, 4), label="batches"), len(batches) + 1)))
        if data.draw(st.booleans(), label="another order"):
            numbers = data.draw(st.permutations(numbers), label="order")
        sent, then, gap = [batches[one - 1] for one in numbers], through, False
        for number in numbers:
            gap = gap or number > then + 1
            then = max(then, number)
        if gap:
            with pytest.raises(BadInput, match=r"batch \d+ came, and \d+ is next"):
                passing.take(session, sent)
        else:
            assert passing.take(session, sent).through == then
            through = then
        now_ = session_of(session)
        lines = [batch + b"\n" for batch in batches[:through]]
        assert (now_.batches, now_.rows, now_.bytes) == (through, 25 * through, opening + sum(map(len, lines)))
        with unit_of_work():
            kept = live_passing.chunks_after(session.log_id, 0)
        assert kept == list(enumerate(lines, start=1))
    live_passing.end(session.id)
    with pytest.raises(OverError):
        passing.take(session, batches[through : through + 1])


def test_a_session_does_not_grow_beyond_what_is_allowed(scene: Scene, monkeypatch):
    drive, batches = driven(5)
    session, _ = begun(scene, drive)
    most = session_of(session).bytes + sum(len(batch) + 1 for batch in batches[:2])
    monkeypatch.setattr(live_passing, "MOST_BYTES", most)
    assert passing.take(session, batches[:2]).through == 2
    with pytest.raises(BadInput, match=r"has grown to .*end it and begin another"):
        passing.take(session, batches[2:3])
    assert (session_of(session).batches, session_of(session).bytes) == (2, most)


def test_what_comes_before_a_batch_that_cannot_be_read_is_kept(scene: Scene):
    drive, batches = driven(5)
    session, _ = begun(scene, drive)
    with pytest.raises(BadInput, match="row 1 has 1 readings"):
        passing.take(session, [batches[0], b'{"batch": 2, "rows": [[0, 1]]}', batches[1]])
    assert session_of(session).batches == 1
    assert passing.take(session, batches[1:3]).through == 3  # nobody is locked out


def test_only_one_session_of_a_car_at_a_time(scene: Scene):
    drive, batches = driven(2)
    session, _ = begun(scene, drive)
    with pytest.raises(RunningAlreadyError, match=r"another session of this car.*ends by itself two minutes"):
        begun(scene, drive)
    passing.take(session, batches[:1])
    live_passing.end(session.id)
    second, _ = begun(scene, drive)
    assert log_of(second).name == "Live 2, cruise"


def test_two_programs_at_once_leave_one_session(scene: Scene):
    drive, _ = driven(1)
    found, refused = [], []

    def begin() -> None:
        try:
            found.append(begun(scene, drive))
        except RunningAlreadyError as error:
            refused.append(error)

    threads = [threading.Thread(target=begin) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(found) == 1
    assert len(refused) == 5


def test_a_session_of_no_row_leaves_nothing(scene: Scene):
    drive, _ = driven(1)
    session, _ = begun(scene, drive)
    assert live_passing.end(session.id)
    with unit_of_work():
        assert LogFile.get_or_none(LogFile.id == session.log_id) is None
        assert live_sessions.latest_of(scene.job) is None


def fall_silent(session: LiveSession, seconds: float = 200) -> None:
    with unit_of_work():
        LiveSession.update(heard_ms=live_passing.milliseconds() - int(seconds * 1000)).where(
            LiveSession.id == session.id
        ).execute()


def test_silence_ends_a_session_and_it_can_be_gone_on_with(scene: Scene):
    drive, batches = driven(20)
    session, key = begun(scene, drive)
    passing.take(session, batches[:6])
    with unit_of_work():
        live_events.note(session.id, live_events.MARK, live_events.DRIVER, 3.2)
    assert passing.end_silent() == 0
    fall_silent(session)
    assert passing.end_silent() == 1
    assert passing.end_silent() == 0
    ready(log_of(session))
    assert log_of(session).state == log_states.READY
    again = passing.go_on(scene.job, session.id, key)
    assert again.running_id == scene.job.id
    assert log_of(session).state == log_states.RECORDING
    assert passing.take(again, batches[6:]).through == len(batches)
    live_passing.end(session.id)
    ready(log_of(session))
    with unit_of_work():
        stored = samples.read_whole(log_of(session))
    assert stored.quantities["engine_speed"].values.size == 25 * len(batches)
    assert stored.quantities["marker"].values.sum() == 1  # the mark of before the break, once


def test_no_session_goes_on_for_longer_than_a_drive(scene: Scene):
    drive, batches = driven(2)
    session, key = begun(scene, drive)
    passing.take(session, batches[:1])
    with unit_of_work():
        LiveSession.update(began_at=now() - timedelta(hours=6, minutes=1)).execute()
    assert passing.end_silent() == 1
    assert session_of(session).ended_why == live_passing.TOO_LONG
    with pytest.raises(OverError):
        passing.go_on(scene.job, session.id, key)


def test_a_clock_set_back_keeps_no_session_open_for_ever(scene: Scene):
    drive, batches = driven(2)
    session, _ = begun(scene, drive)
    passing.take(session, batches[:1])
    fall_silent(session, -3600)
    assert passing.end_silent() == 1


@pytest.mark.parametrize("how", ["ended", "long ago", "another began", "wrong key"])
def test_what_cannot_be_gone_on_with(scene: Scene, how: str):
    drive, batches = driven(3)
    session, key = begun(scene, drive)
    passing.take(session, batches[:2])
    if how == "ended":
        live_passing.end(session.id)
    else:
        live_passing.end(session.id, live_passing.SILENT)
    if how == "long ago":
        with unit_of_work():
            LiveSession.update(ended_at=now() - timedelta(hours=2)).where(LiveSession.id == session.id).execute()
    if how == "another began":
        begun(scene, drive)
    wanted = RunningAlreadyError if how == "another began" else OverError
    with pytest.raises(wanted):
        passing.go_on(scene.job, session.id, "x" * 32 if how == "wrong key" else key)
    with pytest.raises(OverError, match="has ended"):
        passing.take(session, batches[2:3])
    assert session_of(session).batches == 2


def test_what_the_brief_wants_and_is_not_there_is_said_at_once(scene: Scene):
    drive, _ = driven(1)
    found = passing.begin(scene.job, scene.round, b'{"channels": [{"name": "Coolant", "unit": "\xc2\xb0C"}]}')
    assert "No engine speed" in found.said
    live_passing.end(found.session.id)
    assert passing.begin(scene.job, scene.round, opening_of(drive)).said == ""


def test_a_full_shop_takes_no_session(scene: Scene):
    drive, _ = driven(1)
    with unit_of_work():
        shops.set_room(scene.user.shop_id, "0")
    with pytest.raises(BadInput, match="room"):
        begun(scene, drive)


def test_a_session_grows_to_its_limit_and_keeps_what_it_has(scene: Scene, monkeypatch):
    drive, batches = driven(3)
    session, _ = begun(scene, drive)
    passing.take(session, batches[:1])
    monkeypatch.setattr(live_passing, "MOST_BYTES", session_of(session).bytes + 10)
    with pytest.raises(BadInput, match="end it and begin another"):
        passing.take(session, batches[1:2])
    assert session_of(session).batches == 1


def test_any_process_may_take_and_show(scene: Scene):
    """What one has followed and what another reads from the beginning are the same."""
    drive, batches = driven(20)
    session, _ = begun(scene, drive)
    passing.take(session, batches[:4])
    first = growing.follow(session)
    first.advance()
    for batch in batches[4:]:
        passing.take(session, [batch])
        first.advance()
    growing.forget()
    other = growing.follow(session)
    other.advance()
    assert other is not first
    assert other.growth.time.tolist() == first.growth.time.tolist()
    for key in ("engine_speed", "manifold_pressure", "lambda_measured"):
        assert other.growth.values(key).tolist() == first.growth.values(key).tolist()


def test_a_log_being_recorded_can_be_opened_and_is_not_in_the_way(scene: Scene):
    drive, batches = driven(5)
    session, _ = begun(scene, drive)
    passing.take(session, batches[:2])
    with unit_of_work():
        assert session.log_id in ready_logs.chosen(scene.job, [session.log_id])
        assert ready_logs.of_job(scene.job) == []
        assert not log_files.being_read(scene.job)


def test_computed_channels_grow_with_the_rest(scene: Scene):
    drive, batches = driven(30)
    session, _ = begun(scene, drive)
    passing.take(session, batches[:10])
    followed = growing.follow(session)
    followed.advance()
    size = followed.growth.size
    passing.take(session, batches[10:])
    followed.advance()
    later = followed.computed("fuel_error", size)
    assert later.size == followed.growth.size - size
    whole = followed.computed("fuel_error", 0)
    assert later == pytest.approx(whole[size:], nan_ok=True)
    assert np.isfinite(later).any()
    assert followed.computed("no_such_channel", 0) is None
