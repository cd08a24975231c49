"""Uploads in pieces, cut and sent in any way: the file is here once, whole, or it is said what is missing."""

from __future__ import annotations

from itertools import pairwise

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.seeds import seeds
from tests.store.conftest import Scene, log_text
from uchiwa.core.errors import BadInput
from uchiwa.services.upload_pieces import TOO_LARGE, TOO_MANY, TOTAL_LIMIT_BYTES, SentFile, arrived, take_piece
from uchiwa.store import jobs, log_states, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile

DATA = log_text(size=300).encode()


def file_of(number: int, data: bytes = DATA) -> SentFile:
    return SentFile(f"drive {number}.csv", len(data), "yesterday")


def sent(scene: Scene, file: SentFile, start: int, end: int, data: bytes = DATA):
    return take_piece(scene.round, file, start, data[start:end], by_customer=True)


_numbers = iter(range(1, 1_000_000))


@settings(max_examples=seeds(15, 60), suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.integers(1, len(DATA) - 1), max_size=5, unique=True), st.data())
def test_however_it_is_cut_and_whatever_comes_twice_it_is_here_whole(scene: Scene, cuts, data):
    """Pieces in their order; before each, perhaps one that is here already is sent again."""
    number = next(_numbers)
    content = f"# {number}\n".encode() + DATA
    file = file_of(number, content)
    borders = [0, *sorted(cuts), len(content)]
    for start, end in pairwise(borders):
        if start and data.draw(st.booleans()):
            again = data.draw(st.sampled_from([border for border in borders if border < start]))
            told = sent(scene, file, again, borders[borders.index(again) + 1], content)
            assert (told.received, told.done) == (start, False)
        assert arrived(scene.round, file) == start
        told = sent(scene, file, start, end, content)
        assert (told.received, told.done, told.refused) == (end, end == len(content), 0)
    with unit_of_work():
        log = LogFile.get(LogFile.name == file.name)
        assert log.state == log_states.STORED
        assert uploads.whole(log) == content
    assert arrived(scene.round, file) == 0  # nothing is under way any more


def test_a_piece_that_does_not_follow_on_is_refused_and_costs_nothing(scene: Scene):
    file = file_of(1)
    with pytest.raises(BadInput, match="an earlier part"):
        sent(scene, file, 100, 200)
    sent(scene, file, 0, 100)
    with pytest.raises(BadInput, match="do not fit"):
        sent(scene, file, 150, 250)
    with pytest.raises(BadInput, match="do not fit"):
        take_piece(scene.round, file, 100, DATA[100:] + b"more than there is", by_customer=True)
    assert arrived(scene.round, file) == 100
    assert sent(scene, file, 100, len(DATA)).done


def test_the_last_piece_may_come_again_when_its_answer_was_lost(scene: Scene):
    file = file_of(1)
    sent(scene, file, 0, 100)
    first = sent(scene, file, 100, len(DATA))
    assert sent(scene, file, 100, len(DATA)) == first
    assert (first.received, first.done, first.said) == (len(DATA), True, "")
    with unit_of_work():
        assert LogFile.select().count() == 1
    with pytest.raises(BadInput, match="an earlier part"):  # only the last one
        sent(scene, file, 50, 100)


def test_a_file_that_changed_and_says_otherwise_takes_nothing_from_the_first(scene: Scene):
    """Of the same name, size and time by the browser's word, but of other content."""
    file, other = file_of(1), DATA.replace(b"1", b"2")
    for data in (DATA, other):
        sent(scene, file, 0, 100, data)
        assert sent(scene, file, 100, len(DATA), data).done
    assert sent(scene, file, 100, len(DATA), other).done
    with unit_of_work():
        assert sorted(uploads.whole(log) for log in LogFile.select()) == sorted([DATA, other])


def test_the_same_file_under_another_name_is_said_and_kept_once(scene: Scene):
    first, second = file_of(1), file_of(2)
    sent(scene, first, 0, len(DATA))
    told = sent(scene, second, 0, len(DATA))
    assert told.done
    assert told.said == "drive 2.csv is the same file as drive 1.csv, which is already here."
    with unit_of_work():
        assert len(jobs.round_logs(scene.round)) == 1
    assert told.answer() == {"received": len(DATA), "done": True, "said": told.said}


def test_a_changed_file_of_the_same_name_begins_anew(scene: Scene):
    before = SentFile("drive.csv", len(DATA), "yesterday")
    sent(scene, before, 0, 100)
    assert arrived(scene.round, before) == 100
    assert arrived(scene.round, SentFile("drive.csv", len(DATA), "today")) == 0


def test_what_is_too_large_is_refused_before_a_byte_is_kept(scene: Scene):
    for size in (TOTAL_LIMIT_BYTES + 1, -1):
        told = take_piece(scene.round, SentFile("huge.csv", size), 0, b"a", by_customer=True)
        assert told.refused == TOO_LARGE
        assert "512 MB" in told.said
        assert told.answer() == {"said": told.said}
    with unit_of_work():
        assert LogFile.select().count() == 0


def test_a_customer_who_sends_without_end_is_asked_to_wait_and_the_tuner_is_not(scene: Scene, monkeypatch):
    monkeypatch.setattr(uploads, "HOURLY", 2)
    for number in range(2):
        content = f"# {number}\n".encode() + DATA
        assert sent(scene, file_of(number, content), 0, len(content), content).done
    told = sent(scene, file_of(9), 0, 10)
    assert told.refused == TOO_MANY
    assert "wait" in told.said
    assert not take_piece(scene.round, file_of(9), 0, DATA[:10], by_customer=False).refused


def test_an_empty_file_is_taken_and_the_import_says_what_is_wrong(scene: Scene):
    told = take_piece(scene.round, SentFile("empty.csv", 0), 0, b"", by_customer=True)
    assert told.done
    with unit_of_work():
        assert LogFile.get(LogFile.name == "empty.csv").state == log_states.STORED
