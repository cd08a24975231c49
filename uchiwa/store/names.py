"""Names of people and shops as they are typed."""

from __future__ import annotations

from uchiwa.core.errors import BadInput

LONGEST = 120


def name_typed(text: str, whose: str) -> str:
    """A name in the one form in which it is kept.

    Raises:
        BadInput: there is none; tells whose.
    """
    name = " ".join(text.split())[:LONGEST]
    if not name:
        raise BadInput(f"{whose} has no name", advice="type one")
    return name
