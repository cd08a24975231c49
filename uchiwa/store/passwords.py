"""Passwords: what one has to be, and how it is kept.

The rules are those of NIST SP 800-63B-4, section 3.1.1.2, for a password that may stand alone: at least 15 characters, any
characters at all, none that is known from breaches or follows from one, nothing made of the person's own names; no
composition rules and no expiry. How many guesses one stands is estimated by zxcvbn, which ships the lists (Wheeler, “zxcvbn:
Low-Budget Password Strength Estimation”, USENIX Security 2016).
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable
from functools import cache

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerificationError

from uchiwa.core.errors import BadInput

_BETWEEN_NAMES = re.compile(r"[\W_]+")

SHORTEST, LONGEST = 15, 200
_OF_A_NAME = 4
_LOOKED_AT = 100
_GUESSES = 9.0
"""Decimal logarithm of the guesses that a password has to stand; with 15 characters only what is made of known words has less."""
_hasher = PasswordHasher()


def must_be_good(password: str, about: Iterable[str] = ()) -> None:
    """Refuses a password that is too easily guessed.

    Args:
        about: names, addresses and the like of the person and the shop; none of them may be most of the password.

    Raises:
        BadInput: says what is wrong with it.
    """
    text = _plain(password)
    if len(text) < SHORTEST:
        raise BadInput(
            f"the password has {len(text)} characters", advice=f"take {SHORTEST} or more; a few words will do"
        )
    if len(text) > LONGEST:
        raise BadInput(f"the password has {len(text)} characters", advice=f"take {LONGEST} at most")
    from zxcvbn import zxcvbn

    names = sorted({part for one in about for part in (one, *_names(one)) if part})
    told = zxcvbn(text[:_LOOKED_AT], user_inputs=names, max_length=_LOOKED_AT)
    if told["guesses_log10"] < _GUESSES:
        raise BadInput(
            "this password is quickly guessed: it is known, repeats itself, or is made of your own names",
            advice="take a few words that have nothing to do with each other",
        )


def hashed(password: str) -> str:
    """An argon2id hash, the only form in which a password is kept."""
    return _hasher.hash(_plain(password))


def fits(kept: str | None, password: str) -> bool:
    """Whether this is the password of a hash; with no hash it takes as long, and is not."""
    try:
        return _hasher.verify(kept or nobody(), _plain(password)) and kept is not None
    except (VerificationError, InvalidHashError):
        return False


@cache
def nobody() -> str:
    """A hash that no password has, so that a name nobody has takes as long to refuse as a wrong password."""
    return _hasher.hash("nobody has this password")


def _plain(password: str) -> str:
    """The same characters however a keyboard composes them (NFKC, as the standard asks)."""
    return unicodedata.normalize("NFKC", password)


def _names(text: str) -> list[str]:
    return [part for part in _BETWEEN_NAMES.split(text.lower()) if len(part) >= _OF_A_NAME]
