"""Numbers as people type them: with a decimal comma or point, a true minus, and spaces between thousands."""

from __future__ import annotations

import math
import re

from uchiwa.core.errors import BadInput

_SPACES = str.maketrans("", "", " \u00a0\u2009\u202f")
_NUMBER = re.compile(r"[-+]?(\d{1,40}+\.?\d{0,40}|\.\d{1,40})([eE][-+]?\d{1,4})?")


def plain_number(text: str) -> str:
    """A typed number as programs write it; anything else stays as it is, for whoever refuses it."""
    plain = text.strip().translate(_SPACES).replace(",", ".").replace("−", "-")
    return plain if _NUMBER.fullmatch(plain) else text.strip()


def typed_number(text: str, where: str | None = None) -> float:
    """A typed number.

    Raises:
        BadInput: it is none, or not a finite one; tells where.
    """
    plain = plain_number(text)
    if not _NUMBER.fullmatch(plain) or not math.isfinite(float(plain)):
        shown = text.strip()[:20]
        raise BadInput(f"“{shown}” is not a number", where=where, advice="write one, such as 1.5 or 1,5")
    return float(plain)
