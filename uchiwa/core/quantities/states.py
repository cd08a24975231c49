"""Words that loggers write for states, as numbers."""

from __future__ import annotations

import re

ABSENT = frozenset(
    {"", "-", "--", "---", "n/a", "na", "#n/a", "null", "none", "nan", "nodata", "no data", "?", "inv", "invalid"}
)
_WORDS = {
    "cl": 1.0, "closed": 1.0, "closed loop": 1.0, "closed-loop": 1.0, "ol": 0.0, "open": 0.0, "open loop": 0.0,
    "open-loop": 0.0, "on": 1.0, "off": 0.0, "yes": 1.0, "no": 0.0, "true": 1.0, "false": 0.0, "active": 1.0,
    "inactive": 0.0, "enabled": 1.0, "disabled": 0.0, "ein": 1.0, "aus": 0.0, "an": 1.0, "ja": 1.0, "nein": 0.0,
    "pressed": 1.0, "released": 0.0, "set": 1.0, "clear": 0.0, "n": 0.0, "neutral": 0.0, "p": 0.0, "park": 0.0,
    "r": -1.0, "reverse": -1.0, "d": 1.0, "drive": 1.0, "high": 1.0, "low": 0.0,
}  # fmt: skip
_LOOP = re.compile(r"^(cl|ol|closed|open)\b")


def state_of(word: str) -> float | None:
    """The number that a word stands for, or None if it is not known."""
    plain = " ".join(word.strip().lower().replace("_", " ").split())
    known = _WORDS.get(plain)
    if known is not None:
        return known
    loop = _LOOP.match(plain)
    return _WORDS[loop[1]] if loop else None


def is_absent(text: str) -> bool:
    """Whether a cell says that there is no reading."""
    return text.strip().lower() in ABSENT


_MOST_STATES = 12
_LONGEST = 200


def states_in(text: str) -> dict[float, float]:
    """States that a header explains, as in `0=Open 1=Closed` or `1: OL, 2: CL`: code -> number of the word; else empty.

    Only the first words of a header count, and only if every code has a word that is known.
    """
    parts = text[:_LONGEST].replace("=", " = ").replace(":", " = ").replace("(", " ").replace(")", " ")
    words = parts.replace(",", " ").replace(";", " ").replace("/", " ").replace("[", " ").replace("]", " ").split()
    found: dict[float, float] = {}
    for at, word in enumerate(words[:-1]):
        if not word.isdigit() or len(found) >= _MOST_STATES:
            continue
        after = words[at + 2] if words[at + 1] == "=" and at + 2 < len(words) else words[at + 1]
        state = state_of(after)
        if state is not None:
            found[float(word)] = state
    return found if len(found) >= 2 else {}
