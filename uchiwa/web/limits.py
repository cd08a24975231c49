"""Limits on the size of a request, and the headers every answer carries."""

from __future__ import annotations

from starlette.datastructures import MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

UPLOAD_LIMIT_BYTES = 512_000_000
FORM_LIMIT_BYTES = 2_000_000
FILE_LIMIT_BYTES = 40_000_000
UPLOAD_PATHS = ("/logs/upload", "/jobs/new", "/jobs/import")
FILE_PATHS = ("/compare/file", "/image")

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


class TooLargeError(Exception):
    """The body of a request is larger than it may be."""


class GuardMiddleware:
    """Refuses bodies over the limit, whatever length they claim, and adds the security headers."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Guard one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        path: str = scope["path"]
        most = FILE_LIMIT_BYTES if path.endswith(FILE_PATHS) else FORM_LIMIT_BYTES
        most = UPLOAD_LIMIT_BYTES if path.endswith(UPLOAD_PATHS) else most
        claimed = dict(scope["headers"]).get(b"content-length", b"0")
        started = False
        seen = 0

        async def counted() -> Message:
            nonlocal seen
            message = await receive()
            seen += len(message.get("body", b""))
            if seen > most:
                raise TooLargeError
            return message

        async def dressed(message: Message) -> None:
            nonlocal started
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
        if claimed.isdigit() and int(claimed) > most:
            await PlainTextResponse(said, status_code=413, headers={"connection": "close"})(scope, receive, dressed)
            return
        try:
            await self.app(scope, counted, dressed)
        except TooLargeError:
            if not started:
                await PlainTextResponse(said, status_code=413)(scope, receive, dressed)
