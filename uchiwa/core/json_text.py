"""JSON from outside: nested to 200 levels at most, and said in one line where it is none."""

from __future__ import annotations

import re
from typing import Any

from pydantic_core import from_json

from uchiwa.core.errors import BadInput

_PLACE = re.compile(r" at line (\d{1,12}) column \d{1,12}$")
_TOO_DEEP = "recursion limit exceeded"


def read_json(text: str | bytes, *, where: str, advice: str, largest: int | None = None) -> Any:
    """Plain data from JSON (RFC 8259).

    Args:
        text: as it came; bytes in UTF-8, with a mark at their beginning or without.
        where: what it is, for messages.
        advice: what the person can do.
        largest: bytes or characters that it may have.

    Raises:
        BadInput: it is no JSON, is nested deeper than 200 levels, or too large; tells the line.
    """
    if largest is not None and len(text) > largest:
        raise BadInput(f"this JSON is larger than {largest:,} bytes", where=where, advice=advice)
    mark = b"\xef\xbb\xbf" if isinstance(text, bytes) else "\ufeff"
    try:
        return from_json(text.removeprefix(mark))  # type: ignore[arg-type]  # the mark is of the text's own kind
    except ValueError as error:
        place = _PLACE.search(str(error))
        line = f"{where}, line {place[1]}" if place is not None else where
        what = "this JSON is nested too deeply" if _TOO_DEEP in str(error) else "this is not JSON"
        raise BadInput(what, where=line, advice=advice) from error
