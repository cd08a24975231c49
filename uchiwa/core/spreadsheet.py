"""Words in delimited text that a spreadsheet would take for a formula."""

from __future__ import annotations

_RUN = ("=", "+", "-", "@", "\t", "\r", "\n", "＝", "＋", "－", "＠")


def as_text(words: str) -> str:
    """Words as a cell that every spreadsheet shows and none runs: led by an apostrophe where they would be (CWE-1236)."""
    return f"'{words}" if words.lstrip(" ").startswith(_RUN) else words
