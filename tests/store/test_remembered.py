"""Parts remembered within a process: up to so many bytes, each made once for all who ask at the same time."""

from __future__ import annotations

import threading
import time
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.store.remembered import Remembered

KEYS = st.integers(0, 8)


@given(st.lists(st.tuples(KEYS, st.integers(1, 60)), max_size=60), st.integers(10, 100))
def test_it_never_holds_more_than_it_may_and_counts_what_it_holds(asked, most):
    known: Remembered[int] = Remembered(most)
    sizes: dict[int, int] = {}
    for key, size in asked:
        sizes.setdefault(key, size)
        assert known.get_or_make((key,), lambda key=key: key * 10, lambda _, key=key: sizes[key]) == key * 10
        assert known.bytes <= most
    assert known.bytes == sum(sizes[key] for key in range(9) if known.get((key,)) is not None)


def test_what_was_asked_for_last_stays():
    known: Remembered[str] = Remembered(30)
    for key in "abc":
        known.put((key,), key, 10)
    assert known.get(("a",)) == "a"
    known.put(("d",), "d", 10)
    assert [known.get((key,)) for key in "abcd"] == ["a", None, "c", "d"]


def test_a_part_larger_than_all_of_it_is_given_and_not_kept():
    known: Remembered[str] = Remembered(5)
    assert known.get_or_make(("a",), lambda: "large", lambda _: 6) == "large"
    assert known.get(("a",)) is None
    assert known.bytes == 0


def test_the_first_that_was_put_stays_so_that_all_have_the_same():
    known: Remembered[list[int]] = Remembered(100)
    first = known.put(("a",), [1], 1)
    known.put(("a",), [2], 1)
    assert known.get(("a",)) is first
    assert known.bytes == 1


def test_of_many_who_ask_at_once_one_makes_it():
    known: Remembered[object] = Remembered(100)
    made: list[int] = []
    together = threading.Barrier(8)

    def make() -> object:
        made.append(threading.get_ident())
        time.sleep(0.05)
        return object()

    def ask(_: int) -> object:
        together.wait()
        return known.get_or_make(("a",), make, lambda _: 1)

    with ThreadPoolExecutor(8) as pool:
        found = list(pool.map(ask, range(8)))
    assert len(made) == 1
    assert all(one is found[0] for one in found)


def test_what_goes_wrong_is_raised_to_all_who_wait_and_tried_again_by_the_next():
    known: Remembered[str] = Remembered(100)
    together = threading.Barrier(4)
    tried: list[int] = []

    def fails() -> str:
        tried.append(1)
        time.sleep(0.05)
        raise LookupError("not now")

    def ask(_: int) -> str:
        together.wait()
        try:
            return known.get_or_make(("a",), fails, len)
        except LookupError as error:
            return str(error)

    with ThreadPoolExecutor(4) as pool:
        assert list(pool.map(ask, range(4))) == ["not now"] * 4
    assert len(tried) <= 4
    assert known.get_or_make(("a",), lambda: "now", len) == "now"


def test_a_size_that_cannot_be_told_leaves_nobody_waiting():
    known: Remembered[str] = Remembered(100)
    with pytest.raises(TypeError):
        known.get_or_make(("a",), lambda: "a", lambda _: len(None))  # type: ignore[arg-type]
    assert known.get_or_make(("a",), lambda: "b", len) == "b"


def test_less_room_is_kept_to_and_nothing_is_left_after_it_is_cleared():
    known: Remembered[int] = Remembered(100)
    for key in range(10):
        known.put((key,), key, 10)
    known.allow(25)
    known.put((10,), 10, 10)
    assert known.bytes <= 25
    known.clear()
    assert known.bytes == 0
    assert known.get((10,)) is None
