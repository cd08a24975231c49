import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from tests.store.conftest import log_text, sweep
from uchiwa.core.logs.readers import read_log
from uchiwa.services import importing
from uchiwa.store import jobs, leases, samples, uploads
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import ChannelChunk, LogChannel, LogFile, LogRawChunk

_DECIMALS = st.tuples(st.integers(-(10**9), 10**9), st.integers(0, 5)).map(lambda one: one[0] / 10 ** one[1])


@given(
    arrays(np.float64, st.integers(1, 300), elements=st.floats(allow_nan=True, allow_infinity=False))
    | st.lists(_DECIMALS, min_size=1, max_size=300).map(np.array)
)
def test_packing_keeps_every_bit(values):
    assert samples.unpack(samples.pack(values), values.size).tobytes() == values.tobytes()


def test_samples_come_back_as_they_were_read(scene):
    text = log_text()
    log, fresh = scene.receive(text)
    assert fresh
    assert importing.import_log(log.id)
    whole = read_log(text.encode(), "drive.csv")
    with unit_of_work():
        log = LogFile.get_by_id(log.id)
        back = samples.read([log], list(whole.quantities))[0]
    assert log.state == "ready"
    assert np.array_equal(back.rasters[0].time, whole.rasters[0].time)
    for quantity, channel in whole.quantities.items():
        assert np.array_equal(back.quantities[quantity].values, channel.values, equal_nan=True)


def test_only_the_channels_asked_for_are_read(scene):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    with unit_of_work():
        back = samples.read([log], ["engine_speed"])[0]
    assert set(back.quantities) == {"engine_speed"}


def test_long_channels_are_cut_into_chunks_with_extremes(scene, monkeypatch):
    monkeypatch.setattr(samples, "CHUNK", 400)
    log, _ = scene.receive(log_text(size=1000))
    importing.import_log(log.id)
    with unit_of_work():
        speed = LogChannel.get(LogChannel.log == log, LogChannel.quantity == "engine_speed")
        chunks = list(ChannelChunk.select().where(ChannelChunk.channel == speed).order_by(ChannelChunk.position))
        values = samples.read([log], ["engine_speed"])[0].quantities["engine_speed"].values
    assert [chunk.samples for chunk in chunks] == [400, 400, 200]
    assert (speed.minimum, speed.maximum) == (values.min(), values.max())
    assert chunks[1].maximum == values[400:800].max()


def test_the_raw_upload_is_kept_in_pieces(scene, monkeypatch):
    monkeypatch.setattr(uploads, "PIECE", 1000)
    data = log_text().encode()
    log, _ = scene.receive(data)
    with unit_of_work():
        assert b"".join(uploads.pieces(log)) == data
        assert LogRawChunk.select().where(LogRawChunk.log == log).count() > 10


@pytest.mark.parametrize("data", [b"", b"\x00\x01\x02" * 50, b"time,rpm\n1,2\n", b"time [s],MAP [kPa]\n0,1\n1,2\n"])
def test_a_refused_log_keeps_its_bytes_and_shows_no_samples(scene, data):
    log, _ = scene.receive(data, "bad.csv")
    assert importing.import_log(log.id)
    with unit_of_work():
        log = LogFile.get_by_id(log.id)
        assert log.state == "refused"
        assert log.message[0].isupper()
        assert log.message.endswith(".")
        assert b"".join(uploads.pieces(log)) == data
        assert LogChannel.select().count() == 0
        assert jobs.usable_logs(scene.round) == []


def test_too_large_a_log_is_refused_but_kept(scene, monkeypatch):
    monkeypatch.setattr("uchiwa.core.logs.readers.READ_LIMIT_BYTES", 1000)
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    with unit_of_work():
        assert "logs are read up to" in LogFile.get_by_id(log.id).message
        assert LogRawChunk.select().count() == 1


def test_the_same_file_is_not_kept_twice(scene):
    first, _ = scene.receive(log_text())
    again, fresh = scene.receive(log_text(), "renamed.csv")
    assert (again.id, fresh) == (first.id, False)
    with unit_of_work():
        assert LogFile.select().count() == 1


def test_an_import_is_done_once(scene):
    log, _ = scene.receive(log_text())
    assert importing.import_log(log.id)
    assert not importing.import_log(log.id)


def test_an_import_whose_worker_died_is_finished_by_the_sweep(scene):
    log, _ = scene.receive(log_text())
    assert leases.claim(log.id) is not None
    sweep()
    with unit_of_work():
        assert LogFile.get_by_id(log.id).state == "importing"
        LogFile.update(lease_until=now() - leases.LEASE).execute()
    sweep()
    with unit_of_work():
        assert LogFile.get_by_id(log.id).state == "ready"


def test_a_failure_while_samples_are_written_shows_nothing_and_is_made_good(scene, monkeypatch):
    log, _ = scene.receive(log_text())
    row_of = samples._row_of
    calls = iter(range(100))
    monkeypatch.setattr(samples, "_row_of", lambda *given: row_of(*given) if next(calls) < 5 else 1 / 0)
    with pytest.raises(ZeroDivisionError):
        importing.import_log(log.id)
    monkeypatch.undo()
    with unit_of_work():
        assert LogFile.get_by_id(log.id).state == "stored"
        assert jobs.usable_logs(scene.round) == []
    assert importing.import_log(log.id)
    whole = read_log(log_text().encode(), "drive.csv")
    with unit_of_work():
        assert LogChannel.select().count() == len(whole.rasters[0].channels) + 1
        assert ChannelChunk.select().count() == len(whole.rasters[0].channels) + 1


def test_an_import_that_was_taken_over_stops_without_a_trace(scene, monkeypatch):
    log, _ = scene.receive(log_text())
    row_of = samples._row_of

    def robbed(*given):
        with unit_of_work():
            LogFile.update(owner="another").where(LogFile.id == log.id).execute()
        return row_of(*given)

    monkeypatch.setattr(samples, "_row_of", robbed)
    assert not importing.import_log(log.id)
    with unit_of_work():
        assert LogFile.get_by_id(log.id).owner == "another"
        assert LogFile.get_by_id(log.id).state == "importing"


def test_a_failure_of_ours_gives_the_log_back_for_the_next_try(scene, monkeypatch):
    log, _ = scene.receive(log_text())
    monkeypatch.setattr(importing, "read_recordings", lambda *_: 1 / 0)
    with pytest.raises(ZeroDivisionError):
        importing.import_log(log.id)
    monkeypatch.undo()
    assert importing.import_log(log.id)
    with unit_of_work():
        assert LogFile.get_by_id(log.id).state == "ready"


def test_the_round_keeps_how_large_its_error_was(scene):
    log, _ = scene.receive(log_text(mixture=1.06))
    importing.import_log(log.id)
    with unit_of_work():
        round_ = jobs.rounds(scene.job)[0]
        assert round_.error_percent == pytest.approx(6.0, abs=0.2)
        assert round_.cells > 20
        assert round_.cells_within == 0
        importing.accept(scene.job, round_, LogFile.get_by_id(log.id), accepted=False)
        assert jobs.rounds(scene.job)[0].error_percent is None


def test_notes_of_the_file_are_kept(scene):
    log, _ = scene.receive("# revision: pike 4\n" + log_text())
    importing.import_log(log.id)
    with unit_of_work():
        assert json.loads(LogFile.get_by_id(log.id).notes)["revision"] == "pike 4"
