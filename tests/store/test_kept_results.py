"""Results on disk: found by every process, believed only as they were written, and of no consequence when they are gone."""

from __future__ import annotations

import os
import pickle
import sqlite3
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path
from types import MappingProxyType

import numpy as np
import pytest
from peewee import OperationalError

from uchiwa.core.tables.table import frozen
from uchiwa.services import log_cache
from uchiwa.settings import Settings
from uchiwa.store import kept_results
from uchiwa.store.database import unit_of_work
from uchiwa.store.kept_results import KeptResults
from uchiwa.store.models import LogFile
from uchiwa.store.place import Place

KEY = ("fuel evidence", ((4, 2, "abc", "2026"),), b"\x00\x01", 1.5)


@dataclass(frozen=True)
class Result:
    """As the core's are."""

    values: np.ndarray
    by_name: MappingProxyType


RESULT = Result(np.array([1.0, np.nan, 3.0]), MappingProxyType({"a": np.arange(3)}))


@pytest.fixture(autouse=True)
def ours(monkeypatch):
    """What this module keeps counts as of our own kinds."""
    monkeypatch.setattr(kept_results, "_OURS", (*kept_results._OURS, "tests."))


class Opening:
    """Runs something as it is unpickled."""

    def __reduce__(self):
        return Path.touch, (OPENED,)


OPENED = Path("/tmp") / f"uchiwa-opened-{os.getpid()}"


def test_nothing_is_unpickled_that_was_not_written_here_and_no_code_is_run(tmp_path):
    store = kept(tmp_path)
    store.keep(KEY, 5)
    name = store._name(KEY)
    evil = pickle.dumps(Opening())
    # As somebody would who can write to the folder: a row that the library itself would unpickle.
    with sqlite3.connect(tmp_path / "results" / "cache.db") as file:
        file.execute("UPDATE Cache SET mode = 4, value = ? WHERE key = ?", (evil, name))
    assert store.find(KEY) is None
    with sqlite3.connect(tmp_path / "results" / "cache.db") as file:
        file.execute("UPDATE Cache SET raw = 0, key = ?", (evil,))
    assert list(store._cache) == [None]
    store._cache.clear()
    # As somebody would who has the secret, too: the format itself names no function that is not ours.
    store._cache[name] = store._hash(name, evil) + evil
    assert store.find(KEY) is None
    assert not OPENED.exists()
    store.keep(("other",), Opening())
    assert store.find(("other",)) is None
    assert not OPENED.exists()


def kept(folder: Path, megabytes: int = 10, secret: str = "secret", origin: str = "one") -> KeptResults:
    return KeptResults(folder / "results", megabytes, secret, lambda: origin)


def test_another_process_finds_what_was_kept(tmp_path):
    kept(tmp_path).keep(KEY, {"values": [1.5, 2.5]})
    told = subprocess.run(
        [sys.executable, "-c", "import sys; from pathlib import Path; from uchiwa.store.kept_results import KeptResults; "
         f"print(KeptResults(Path(sys.argv[1]), 10, 'secret', lambda: 'one').find({KEY!r}))", str(tmp_path / "results")],
        capture_output=True, text=True, check=True, cwd=Path(__file__).parents[2],
    )  # fmt: skip
    assert told.stdout.strip() == "({'values': [1.5, 2.5]},)"


def test_arrays_and_fixed_mappings_come_back_as_they_were(tmp_path):
    store = kept(tmp_path)
    store.keep(KEY, RESULT)
    (back,) = store.find(KEY)
    assert np.array_equal(back.values, RESULT.values, equal_nan=True)
    assert back.values.flags.writeable
    assert type(back.by_name) is MappingProxyType
    assert back.by_name["a"].tolist() == [0, 1, 2]
    store.keep(("frozen",), {"one": frozen([1.0, 2.0])})
    (found,) = store.find(("frozen",))
    assert found["one"].tolist() == [1.0, 2.0]
    assert not found["one"].flags.writeable
    store.keep(("none",), None)
    assert store.find(("none",)) == (None,)


@pytest.mark.parametrize("other", [{"secret": "another"}, {"origin": "another"}])
def test_another_installation_database_or_program_finds_nothing(tmp_path, other):
    kept(tmp_path).keep(KEY, 5)
    assert kept(tmp_path).find(KEY) == (5,)
    assert kept(tmp_path, **other).find(KEY) is None
    assert kept(tmp_path).find((*KEY, "more")) is None


def test_what_was_changed_or_exchanged_on_disk_is_not_believed(tmp_path):
    store = kept(tmp_path)
    store.keep(KEY, "mine")
    store.keep(("other",), "another's")
    mine, others = store._name(KEY), store._name(("other",))
    whole = store._cache[mine]
    for wrong in (whole[:-1] + bytes([whole[-1] ^ 1]), whole[:20], b"", store._cache[others], "text", 7):
        store._cache[mine] = wrong
        assert store.find(KEY) is None
    (tmp_path / "results" / "cache.db").write_bytes(b"no database any more" * 500)
    assert kept_or_none(tmp_path) is None


def kept_or_none(folder: Path) -> object:
    """What is found once the file itself is damaged: nothing, or no store at all."""
    place = Place("127.0.0.1", 1, "u", "p", "d", "secret")
    found = kept_results.open_for(Settings(home=folder), place)
    return None if found is None else found.find(KEY)


def test_what_cannot_be_kept_is_not_and_nothing_is_raised(tmp_path):
    store = kept(tmp_path)
    store.keep(KEY, lambda: 0)
    assert store.find(KEY) is None
    store._cache.close()
    for one in (tmp_path / "results").iterdir():
        one.unlink()
    (tmp_path / "results").rmdir()
    (tmp_path / "results").write_text("a file where the folder was")
    store.keep(KEY, 1)
    assert store.find(KEY) is None
    place = Place("127.0.0.1", 1, "u", "p", "d", "secret")
    assert kept_results.open_for(Settings(home=tmp_path), place) is None
    assert kept_results.open_for(Settings(home=tmp_path, disk_cache_megabytes=0), place) is None


def test_a_key_that_may_not_tell_all_is_not_used(tmp_path):
    store = kept(tmp_path)
    for part in (np.arange(5000), RESULT, object()):
        store.keep(("k", (part,)), 1)
        assert store.find(("k", (part,))) is None


def test_the_oldest_go_when_there_are_too_many(tmp_path):
    store = kept(tmp_path, megabytes=20)
    for number in range(40):
        store.keep((number,), np.zeros(125_000))  # 1 MB each
    assert store.find((0,)) is None
    assert store.find((39,)) is not None
    store.clear()
    assert store.find((39,)) is None


def test_a_database_that_is_away_keeps_nothing_and_stops_nobody(tmp_path):
    def away() -> str:
        raise OperationalError("gone")

    store = KeptResults(tmp_path / "results", 10, "secret", away)
    store.keep(KEY, 1)
    assert store.find(KEY) is None


def test_a_database_whose_tables_were_made_anew_has_another_origin(clean_database):
    from uchiwa.store.database import database

    before = kept_results.origin()
    assert kept_results.origin() == before
    time.sleep(1.1)  # the database tells seconds
    with unit_of_work():
        database.execute_sql("ALTER TABLE log_file FORCE")
    assert kept_results.origin() != before


def test_what_took_its_time_is_worked_out_once_for_two_processes(tmp_path, monkeypatch):
    log = LogFile(id=7, reading=1, content_hash="x", uploaded_at="now")
    made: list[str] = []

    def make() -> str:
        made.append("once")
        return "result"

    monkeypatch.setattr(log_cache, "_WORTH_KEEPING_S", 0.0)
    log_cache.share(kept(tmp_path))
    try:
        assert log_cache.from_logs("test", [log], ("k",), make) == "result"
        log_cache._cache.clear()  # as another process begins
        assert log_cache.from_logs("test", [log], ("k",), make, lambda _: 1) == "result"
        assert made == ["once"]
        log.reading = 2
        assert log_cache.from_logs("test", [log], ("k",), make) == "result"
        assert made == ["once", "once"]
        log_cache.forget()
        log_cache.from_logs("test", [log], ("k",), make)
        assert len(made) == 3
    finally:
        log_cache.share(None)
        log_cache.forget()
