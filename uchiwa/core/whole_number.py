"""Whole numbers as they stand in forms and addresses."""

from __future__ import annotations

_MOST_DIGITS = 18


def whole_number(text: str) -> int | None:
    """A text of plain digits as a number; None for anything else, such as “²”, which Python calls a digit too."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= _MOST_DIGITS else None
