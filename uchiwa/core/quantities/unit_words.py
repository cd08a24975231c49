"""Units as people write them."""

from __future__ import annotations

_WORDS = {"1": "", "degC": "°C", "degF": "°F", "deg": "°"}


def unit_words(unit: str) -> str:
    """A unit as people write it; nothing for a number without one."""
    return _WORDS.get(unit, unit)
