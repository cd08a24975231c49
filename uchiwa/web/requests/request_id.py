"""A name for each request, which its answer and every line of the log about it carry."""

from __future__ import annotations

import logging
import secrets
import time

import structlog
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

HEADER = "x-request-id"
_log = logging.getLogger("uchiwa.requests")


class RequestIdMiddleware:
    """Names each request at random, and notes when it was answered. No address, person or query is noted."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Name one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        name, begun, status = secrets.token_hex(6), time.monotonic(), 0
        scope.setdefault("state", {})["request_id"] = name

        async def named(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                MutableHeaders(scope=message)[HEADER] = name
            await send(message)

        with structlog.contextvars.bound_contextvars(request=name):
            await self.app(scope, receive, named)
            if _log.isEnabledFor(logging.INFO):
                seconds = time.monotonic() - begun
                _log.info(
                    "%s %s answered %s in %.0f ms", scope["method"], _plain(scope["path"]), status, seconds * 1000
                )


def _plain(path: str) -> str:
    """A path without the secret of a customer's link."""
    parts = path.split("/")
    return "/".join(["", "c", "…", *parts[3:]]) if parts[1:2] == ["c"] else path
