"""Limits on the size and the slowness of a request, and the headers every answer carries."""

from __future__ import annotations

import asyncio
import time

from starlette.datastructures import MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from uchiwa.core.whole_number import whole_number

UPLOAD_LIMIT_BYTES = 512_000_000
FORM_LIMIT_BYTES = 2_000_000
FILE_LIMIT_BYTES = 40_000_000
STRANGER_LIMIT_BYTES = 65_536
SILENCE_S = 20.0
GRACE_S = 30.0
SLOWEST_BYTES_A_SECOND = 2_000
UPLOAD_PATHS = ("/logs/upload", "/jobs/new", "/jobs/import")
FILE_PATHS = ("/compare/file", "/image")
STRANGER_PATHS = ("/sign-in",)

POLICY = "; ".join(
    (
        "default-src 'none'",
        "script-src 'self'",
        "style-src 'self'",
        "img-src 'self' data:",
        "font-src 'self'",
        "connect-src 'self'",
        "form-action 'self'",
        "frame-ancestors 'none'",
        "base-uri 'none'",
    )
)
HEADERS = {
    "content-security-policy": POLICY,
    "x-content-type-options": "nosniff",
    "referrer-policy": "same-origin",
    "cross-origin-opener-policy": "same-origin",
    "permissions-policy": "camera=(), microphone=(), geolocation=()",
}


_CLOSE = {"connection": "close"}


class TooLargeError(Exception):
    """The body of a request is larger than it may be."""


class SlowSenderError(Exception):
    """The body of a request comes more slowly than anybody's line is."""


def limit_of(path: str) -> int:
    """Bytes that the body of a request to an address may have."""
    if path in STRANGER_PATHS:
        return STRANGER_LIMIT_BYTES
    if path.endswith(UPLOAD_PATHS):
        return UPLOAD_LIMIT_BYTES
    return FILE_LIMIT_BYTES if path.endswith(FILE_PATHS) else FORM_LIMIT_BYTES


class GuardMiddleware:
    """Refuses bodies over the limit, whatever length they claim, cuts slow senders off, and adds security headers."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Guard one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        path: str = scope["path"]
        most = limit_of(path)
        claimed = dict(scope["headers"]).get(b"content-length", b"0")
        started = False
        refused: TooLargeError | SlowSenderError | None = None
        seen, ended, begun = 0, False, time.monotonic()

        async def counted() -> Message:
            nonlocal seen, ended, refused
            if ended:
                return await receive()
            try:
                message = await asyncio.wait_for(receive(), SILENCE_S)
            except TimeoutError:
                refused = SlowSenderError()
                raise refused from None
            seen += len(message.get("body", b""))
            ended = message["type"] != "http.request" or not message.get("more_body", False)
            if seen > most:
                refused = TooLargeError()
                raise refused
            taken = time.monotonic() - begun
            if not ended and taken > GRACE_S and seen < SLOWEST_BYTES_A_SECOND * taken:
                refused = SlowSenderError()
                raise refused
            return message

        async def dressed(message: Message) -> None:
            nonlocal started
            if refused is not None and not started:
                raise refused  # a form that could not be read is no fault of what is in it
            if message["type"] == "http.response.start":
                started = True
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                if not path.startswith("/static/"):
                    headers["cache-control"] = "no-store"
            await send(message)

        said = (
            f"This is larger than {most / 1e6:.0f} MB, the most that is taken at once. "
            "Record one drive to a file, or export fewer channels, and send it again."
        )
        length = whole_number(claimed.decode("latin-1"))
        if claimed.isdigit() and (length is None or length > most):
            await PlainTextResponse(said, status_code=413, headers=_CLOSE)(scope, receive, dressed)
            return
        try:
            await self.app(scope, counted, dressed)
        except TooLargeError:
            refused = None
            if not started:
                await PlainTextResponse(said, status_code=413, headers=_CLOSE)(scope, receive, dressed)
        except SlowSenderError:
            refused = None
            if not started:
                words = "This came too slowly to be taken. What arrived of a log in pieces is kept: send it again."
                await PlainTextResponse(words, status_code=408, headers=_CLOSE)(scope, receive, dressed)
