"""Counts in words."""

from __future__ import annotations


def counted(number: int, one: str, many: str | None = None) -> str:
    """A number with its noun, as in "1 cell" and "2 cells".

    Args:
        number: how many.
        one: the noun of a single one.
        many: of several, by default with an s.
    """
    return f"{number} {one if number == 1 else many or one + 's'}"
