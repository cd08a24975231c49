"""Which passwords are taken, after NIST SP 800-63B-4."""

from __future__ import annotations

import unicodedata

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.seeds import seeds
from uchiwa.core.errors import BadInput
from uchiwa.store import passwords

ABOUT = ("orrell@uchiwa.example", "M. Orrell", "Hill Club calibration")


@pytest.mark.parametrize(
    "password",
    ["", "short", "fourteen chars", "passwordpassword", "123456789012345678", "aaaaaaaaaaaaaaaaaa", "qwertyuiopasdfghjkl",
     "orrellorrell2026!!", "Hill Club calibration", "iloveyouiloveyou1", "x" * 201],
)  # fmt: skip
def test_what_is_quickly_guessed_is_refused_and_says_why(password):
    with pytest.raises(BadInput) as refused:
        passwords.must_be_good(password, ABOUT)
    assert "take" in str(refused.value)
    assert password not in str(refused.value) or not password


@pytest.mark.parametrize(
    "password", ["seven quiet herons wait", "käse, brot & drei uhren", "ÄÖÜ ñandú çelik 山の茶屋で待つ"]
)
def test_any_characters_will_do(password):
    passwords.must_be_good(password, ABOUT)
    kept = passwords.hashed(password)
    assert kept.startswith("$argon2id$")
    assert passwords.fits(kept, unicodedata.normalize("NFD", password))
    assert not passwords.fits(kept, password + " ")


def test_without_a_hash_nothing_fits():
    assert not passwords.fits(None, "nobody has this password")
    assert not passwords.fits("-", "-")


@settings(max_examples=seeds(50, 100))
@given(st.text(max_size=260))
def test_any_text_is_taken_or_refused_in_words(text):
    try:
        passwords.must_be_good(text, ABOUT)
    except BadInput:
        return
    assert passwords.SHORTEST <= len(unicodedata.normalize("NFKC", text)) <= passwords.LONGEST
