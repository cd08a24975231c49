from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import Computed
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.viewing.arrangement import parse
from uchiwa.core.viewing.window import drawn, figures, index_at
from uchiwa.services import reading
from uchiwa.services.reading import Reader
from uchiwa.store import accounts, arrangements, channels, levels, log_states, notes, samples, stored_log
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import ChannelLevel, LogChannel, LogFile
from uchiwa.store.stored_log import StoredLog

ROWS = 150_000
KEYS = ("engine_speed", "manifold_pressure")


@pytest.fixture
def long_log(scene):
    """An hour and more of six channels, one of them unknown and one on another time base."""
    rng = np.random.default_rng(4)
    time = np.round(np.arange(ROWS) / 40, 3)
    signals = {
        "engine_speed": np.round(2000 + 400 * np.sin(time / 9) + rng.normal(0, 20, ROWS)),
        "manifold_pressure": np.round(60 + 20 * np.cos(time / 5), 1),
        "barometric_pressure": np.full(ROWS, 99.0),
        "throttle_position": np.round(rng.uniform(0, 100, ROWS), 1),
    }
    signals["manifold_pressure"][123_456] = 251.0
    known = make_log(**signals).rasters[0].channels
    fast = Raster(time, (*known, Channel("Odd", "furlong", np.arange(ROWS) % 7.0)))
    slow = Raster(np.arange(3750.0), (Channel("Coolant", "degC", np.full(3750, 88.0), "coolant_temperature"),))
    with unit_of_work():
        log = LogFile.create(
            job=scene.job, round=scene.round, name="long.csv", size=1, content_hash="x", state=log_states.READY,
            duration_s=3750.0, uploaded_at=now(),
        )  # fmt: skip
    samples.write(log, Log("long.csv", (fast, slow)))
    stored_log.forget()
    reading.forget()
    return log


@pytest.fixture
def fetched(monkeypatch):
    """Ids of the channels of which a blob was unpacked."""
    seen: list[tuple[str, int]] = []
    chunks, pyramids = stored_log.fetch_chunks, stored_log.fetch_levels

    def count_chunks(signals, first, last):
        signals = list(signals)
        seen.extend(("chunk", signal.id) for signal in signals)
        return chunks(signals, first, last)

    def count_levels(wanted):
        wanted = list(wanted)
        seen.extend(("level", one.id) for one, _ in wanted)
        return pyramids(wanted)

    monkeypatch.setattr(stored_log, "fetch_chunks", count_chunks)
    monkeypatch.setattr(stored_log, "fetch_levels", count_levels)
    return seen


def test_a_view_of_the_whole_reads_only_levels_of_the_channels_it_draws(long_log, fetched, monkeypatch):
    levels.build(long_log)
    unpacked: list[int] = []
    unpack = samples.unpack
    monkeypatch.setattr(samples, "unpack", lambda data, size: unpacked.append(size) or unpack(data, size))
    with unit_of_work():
        stored = StoredLog(long_log, KEYS)
        stored.fetch(KEYS, stored.start, stored.end, 2500)
        lines = [drawn(stored.time_of(key), stored.signals[key], stored.start, stored.end) for key in KEYS]
        drawn_ids = {stored.signals[key].id for key in KEYS} | {stored.main_time.id}
    assert max(line.time.size for line in lines) <= 2500
    assert 251.0 in lines[1].values
    assert {kind for kind, _ in fetched} == {"level"}
    assert {one for _, one in fetched} == drawn_ids
    assert len(unpacked) == len(drawn_ids)
    assert sum(unpacked) < ROWS / 10


def test_a_close_view_reads_the_chunks_of_its_channels_once(long_log, fetched, monkeypatch):
    levels.build(long_log)
    stored_log.forget()
    unpacked: list[int] = []
    unpack = samples.unpack
    monkeypatch.setattr(samples, "unpack", lambda data, size: unpacked.append(size) or unpack(data, size))
    for _ in range(2):
        with unit_of_work():
            stored = StoredLog(long_log, KEYS)
            stored.fetch(KEYS, 100.0, 130.0, 2500)
            line = drawn(stored.main_time, stored.signals["engine_speed"], 100.0, 130.0)
    assert line.whole
    assert 1201 <= line.time.size <= 1201 + 2 * 64
    assert unpacked.count(samples.CHUNK) == 3


def test_stored_figures_and_moments_are_those_of_the_samples(long_log):
    with unit_of_work():
        stored = StoredLog(long_log)
        signal = stored.signals["manifold_pressure"]
        whole = samples.read([long_log], KEYS)[0].quantities["manifold_pressure"].values
        first, last = index_at(stored.main_time, 500.01), index_at(stored.main_time, 3333.3, "right")
        found = figures(signal, first, last)
        assert (found.low, found.high) == (whole[first:last].min(), whole[first:last].max())
        assert found.mean == pytest.approx(whole[first:last].mean())
        assert (signal.mean, signal.extent) == (pytest.approx(whole.mean()), (whole.min(), whole.max()))
        assert np.array_equal(signal.samples(65_000, 66_000), whole[65_000:66_000])


def test_pyramids_are_built_when_they_are_first_needed_and_go_with_their_log(long_log):
    with unit_of_work():
        assert not ChannelLevel.select().exists()
        assert StoredLog(long_log).signals["engine_speed"].blocks == (64, 256, 1024)
        assert levels.build(long_log) == 0
        assert LogChannel.select().where(LogChannel.levels.is_null()).count() == 0
        long_log.delete_instance(recursive=False)
        assert not ChannelLevel.select().exists()


def test_two_that_build_a_pyramid_at_once_do_not_hinder_each_other(long_log):
    with ThreadPoolExecutor(3) as pool:
        built = list(pool.map(lambda _: levels.build(long_log), range(3)))
    assert sorted(built) == [0, 0, 8]
    with unit_of_work():
        assert ChannelLevel.select().count() == 6 * 3 + 1 + 1


def test_an_imported_log_has_its_pyramids(scene):
    from tests.store.conftest import log_text
    from uchiwa.services.importing import import_log

    log, _ = scene.receive(log_text())
    import_log(log.id)
    with unit_of_work():
        assert LogChannel.select().where(LogChannel.log == log, LogChannel.levels.is_null()).count() == 0


def test_computed_traces_are_worked_out_once_from_what_they_need(long_log, scene, monkeypatch):
    asked: list[int] = []
    values_of = samples.values_of
    with unit_of_work():
        levels.build(long_log)
        monkeypatch.setattr(samples, "values_of", lambda ids: asked.extend(ids) or values_of(ids))
        for _ in range(2):
            one = Reader(scene.job, scene.user.shop_id).open(long_log, ["boost_pressure"])
            time, signal = one.source("boost_pressure")
            assert signal.extent[1] == pytest.approx(152.0)
            assert signal.size == time.size == ROWS
        assert len(asked) == 3
        every = Reader(scene.job, scene.user.shop_id).open(long_log)
        traces = every.traces()
        assert {"boost_pressure", "pressure_ratio", ":Odd", "coolant_temperature"} <= set(traces)
        assert "fuel_error" not in traces
        assert every.problem("fuel_error") == "This log has no loop state, from which fuel error is computed."
        assert every.problem("knock_level") == "This log has no knock level."
        assert every.whole("coolant_temperature").size == ROWS
        spans = every.condition_spans("manifold_pressure > 250")
        assert spans == [(pytest.approx(123_456 / 40), pytest.approx(123_456 / 40))]
        with pytest.raises(BadInput, match="no knock level"):
            every.source("knock_level")


def test_computed_channels_belong_to_the_shop(scene):
    with unit_of_work():
        channels.keep(scene.user, Computed("half_speed", "half", "engine_speed / 2", "rpm"))
        channels.keep(scene.user, Computed("quarter", "quarter", "half_speed / 2", "rpm"))
        other = accounts.create_shop("Other")
        assert "half_speed" in channels.book_of(scene.user.shop_id)
        assert "half_speed" not in channels.book_of(other.id)
        with pytest.raises(BadInput, match="quarter is computed from half_speed"):
            channels.drop(scene.user.shop_id, "half_speed")
        with pytest.raises(BadInput, match="computed from itself"):
            channels.keep(scene.user, Computed("half_speed", "half", "quarter * 2", "rpm"))
        channels.drop(scene.user.shop_id, "quarter")
        channels.drop(scene.user.shop_id, "half_speed")
        channels.keep(scene.user, Computed("charge_share", "own", "0.2", "1"))
        assert channels.book_of(scene.user.shop_id)["charge_share"].formula == "0.2"
        channels.drop(scene.user.shop_id, "charge_share")
        assert channels.book_of(scene.user.shop_id)["charge_share"].formula == "0"


def test_arrangements_belong_to_a_person(scene):
    with unit_of_work():
        other = accounts.create_user(scene.user.shop, "b@example.org", "B", "another long password")
        assert arrangements.keep(scene.user, "  my   strips ", parse("engine_speed;lambda_measured")) == "my strips"
        arrangements.keep(scene.user, "my strips", parse("engine_speed"))
        assert arrangements.of_person(scene.user) == {"my strips": parse("engine_speed")}
        assert arrangements.of_person(other) == {}
        with pytest.raises(BadInput, match="name of a purpose"):
            arrangements.keep(scene.user, "knock", parse("engine_speed"))
        with pytest.raises(BadInput, match="needs a name"):
            arrangements.keep(scene.user, " ", parse("engine_speed"))
        arrangements.drop(scene.user, "my strips")
        assert arrangements.of_person(scene.user) == {}


def test_notes_on_moments_and_stretches(long_log, scene):
    with unit_of_work():
        note = notes.write(long_log, scene.user, (20.0, 12.5), " hesitates ", shown=False)
        assert (note.start_s, note.end_s, note.text) == (12.5, 20.0, "hesitates")
        assert notes.shown_of(scene.job) == []
        notes.show(note, shown=True)
        assert [one.text for one in notes.shown_of(scene.job)] == ["hesitates"]
        for span, text in (((1.0, 1.0), "  "), ((float("nan"), 1.0), "x"), ((9e9, 9e9), "x")):
            with pytest.raises(BadInput):
                notes.write(long_log, scene.user, span, text, shown=False)
        notes.drop(notes.find([long_log.id], note.id))
        assert notes.of_logs([long_log.id]) == []
