"""The installation's secret changes, and what older ones made can still be read."""

from __future__ import annotations

import pytest

from uchiwa.store import keys


@pytest.fixture(autouse=True)
def ring():
    before = keys._ring[:]
    yield
    keys._ring[:] = before


def test_what_was_sealed_is_read_with_a_newer_secret_until_the_older_is_taken_away():
    keys.use("first")
    box = keys.sealed("text")
    keys.use("second", "first")
    assert keys.opened(box) == "text"
    anew = keys.sealed_anew(box)
    keys.use("second")
    assert keys.opened(anew) == "text"
    with pytest.raises(keys.NoKeyError):
        keys.opened(box)


def test_tokens_differ_by_purpose_nonce_and_secret():
    keys.use("first")
    tokens = {
        keys.derived("join", "a"),
        keys.derived("reset", "a"),
        keys.derived("join", "b"),
        keys.derived("join", "a", "x"),
    }
    assert len(tokens) == 4
    assert keys.derived("join", "a") == keys.derived("join", "a", "first")


def test_without_a_secret_nothing_is_made():
    keys._ring.clear()
    with pytest.raises(keys.NoKeyError):
        keys.derived("join", "a")
