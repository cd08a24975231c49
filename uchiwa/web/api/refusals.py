"""Refusals of the programming interface: a sentence as JSON."""

from __future__ import annotations

from fastapi.responses import JSONResponse, Response

from uchiwa.web.api.caller import A_MINUTE

NO_TOKEN = "This needs a token that works: make one on your account’s page."  # noqa: S105
TOO_OFTEN = f"More than {A_MINUTE} requests came within a minute: wait a little."


def said(status: int, text: str, headers: dict[str, str] | None = None) -> Response:
    """A refusal: one sentence."""
    more = {401: {"www-authenticate": "Bearer"}, 429: {"retry-after": "60"}}.get(status, {})
    return JSONResponse({"said": text}, status, headers=more | (headers or {}))
