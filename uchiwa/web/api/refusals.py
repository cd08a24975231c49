"""Refusals of the programming interface: problem details as JSON (RFC 9457)."""

from __future__ import annotations

from http import HTTPStatus

from fastapi.responses import JSONResponse, Response

from uchiwa.web.api.caller import A_MINUTE

PROBLEM = "application/problem+json"
NO_TOKEN = "This needs a token that works: make one on your account’s page."  # noqa: S105
TOO_OFTEN = f"More than {A_MINUTE} requests came within a minute: wait a little."


def said(status: int, text: str, headers: dict[str, str] | None = None) -> Response:
    """A refusal: its status in a few words, and one sentence that says what is wrong and what to do."""
    more = {401: {"www-authenticate": "Bearer"}, 429: {"retry-after": "60"}, 503: {"retry-after": "5"}}.get(status, {})
    problem = {"type": "about:blank", "title": HTTPStatus(status).phrase, "status": status, "detail": text}
    return JSONResponse(problem, status, headers=more | (headers or {}), media_type=PROBLEM)
