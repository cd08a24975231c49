"""Names of people and shops as they are typed."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.words.plain_text import has_encoded_word, one_line

LONGEST = 120


def name_kept(text: str, usual: str) -> str:
    """A name from wherever it came, as it is kept; the usual one in place of one that has nothing to be seen."""
    return one_line(text)[:LONGEST].strip() or usual


def name_typed(text: str, whose: str) -> str:
    """A name in the one form in which it is kept.

    Raises:
        BadInput: there is none; tells whose.
    """
    if has_encoded_word(text):
        raise BadInput(
            f"the name of {whose} has “=?” in it", advice="leave that out: mails would read it as something else"
        )
    name = one_line(text)[:LONGEST].strip()
    if not name:
        raise BadInput(f"{whose} has no name", advice="type one")
    return name
