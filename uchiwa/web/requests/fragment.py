"""Whether a script asks for a piece of a page, or a browser for all of it."""

from __future__ import annotations

from fastapi import Request

_HEADER = "x-fragment"


def is_fragment(request: Request, name: str | None = None) -> bool:
    """Whether a piece of the page is asked for: any, or the one of this name."""
    asked = request.headers.get(_HEADER)
    return asked is not None if name is None else asked == name
