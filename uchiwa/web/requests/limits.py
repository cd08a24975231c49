"""Limits on the size and the slowness of a request, and the headers every answer carries."""

from __future__ import annotations

import asyncio
import re
import time

from starlette.datastructures import MutableHeaders
from starlette.responses import PlainTextResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from uchiwa.core.whole_number import whole_number

UPLOAD_LIMIT_BYTES = 512_000_000
FORM_LIMIT_BYTES = 2_000_000
FILE_LIMIT_BYTES = 40_000_000
STRANGER_LIMIT_BYTES = 8_192
"""Of what is sent by somebody unknown: a name and a password, or what a passkey has signed."""
SILENCE_S = 20.0
GRACE_S = 30.0
SLOWEST_BYTES_A_SECOND = 2_000
UPLOAD_PATHS = ("/logs/upload", "/jobs/new", "/jobs/import")
FILE_PATHS = ("/compare/file", "/image", "/shelf", "/layout")
_API_LOGS = re.compile(r"/api/v1/jobs/\d{1,19}/logs$")
_OPEN_PATHS = ("/sign-in", "/sign-in/code", "/sign-in/passkey", "/sign-in/passkey/options", "/forgotten")
_OPEN_AT_A_TOKEN = ("/begin/", "/join/", "/reset/")

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


STRICT = {"strict-transport-security": "max-age=63072000; includeSubDomains"}
"""For two years, browsers that have been here over TLS come back over TLS only (RFC 6797)."""
_CLOSE = {"connection": "close"}


class TooLargeError(Exception):
    """The body of a request is larger than it may be."""


class SlowSenderError(Exception):
    """The body of a request comes more slowly than anybody's line is."""


def is_open(path: str) -> bool:
    """Whether strangers may send something to an address."""
    return path in _OPEN_PATHS or path.startswith(_OPEN_AT_A_TOKEN)


def limit_of(path: str) -> int:
    """Bytes that the body of a request to an address may have."""
    if is_open(path):
        return STRANGER_LIMIT_BYTES
    if path.endswith(UPLOAD_PATHS) or _API_LOGS.match(path):
        return UPLOAD_LIMIT_BYTES
    return FILE_LIMIT_BYTES if path.endswith(FILE_PATHS) else FORM_LIMIT_BYTES


def _as_size(count: int) -> str:
    return f"{count / 1e6:.0f} MB" if count >= 10**6 else f"{count // 1024} kB"


class GuardMiddleware:
    """Refuses bodies over the limit, whatever length they claim, cuts slow senders off, and adds security headers."""

    def __init__(self, app: ASGIApp, *, strict: bool = False) -> None:
        self.app = app
        self.headers = HEADERS | (STRICT if strict else {})

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Guard one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        guarded = _Guarded(scope, receive, send, self.headers)
        if guarded.claims_too_much():
            await guarded.refuse(TooLargeError())
            return
        try:
            await self.app(scope, guarded.receive, guarded.send)
        except (TooLargeError, SlowSenderError) as error:
            await guarded.refuse(error)


class _Guarded:
    """One request: what has come of its body, and whether its answer has begun."""

    def __init__(self, scope: Scope, receive: Receive, send: Send, added: dict[str, str]) -> None:
        self._scope, self._receive, self._send, self._added = scope, receive, send, added
        self._most = limit_of(scope["path"])
        self._refused: TooLargeError | SlowSenderError | None = None
        self._started = self._ended = False
        self._seen, self._begun = 0, time.monotonic()

    def claims_too_much(self) -> bool:
        """Whether the head of the request says that it is over the limit."""
        claimed = dict(self._scope["headers"]).get(b"content-length", b"0")
        length = whole_number(claimed.decode("latin-1"))
        return claimed.isdigit() and (length is None or length > self._most)

    async def receive(self) -> Message:
        """The next piece of the body."""
        if self._ended:
            return await self._receive()
        try:
            message = await asyncio.wait_for(self._receive(), SILENCE_S)
        except TimeoutError:
            raise self._refusal(SlowSenderError()) from None
        self._seen += len(message.get("body", b""))
        self._ended = message["type"] != "http.request" or not message.get("more_body", False)
        if self._seen > self._most:
            raise self._refusal(TooLargeError())
        taken = time.monotonic() - self._begun
        if not self._ended and taken > GRACE_S and self._seen < SLOWEST_BYTES_A_SECOND * taken:
            raise self._refusal(SlowSenderError())
        return message

    def _refusal(self, why: TooLargeError | SlowSenderError) -> TooLargeError | SlowSenderError:
        self._refused = why
        return why

    async def send(self, message: Message) -> None:
        """A part of the answer, with the security headers."""
        if self._refused is not None and not self._started:
            raise self._refused  # a form that could not be read is no fault of what is in it
        if message["type"] == "http.response.start":
            self._started = True
            headers = MutableHeaders(scope=message)
            for name, value in self._added.items():
                headers.setdefault(name, value)
            if not self._scope["path"].startswith("/static/"):
                headers["cache-control"] = "no-store"
        await self._send(message)

    async def refuse(self, why: TooLargeError | SlowSenderError) -> None:
        """Say what was wrong, unless an answer has begun."""
        self._refused = None
        if self._started:
            return
        if isinstance(why, TooLargeError):
            status, words = (
                413,
                (
                    f"This is larger than {_as_size(self._most)}, the most that is taken at once. "
                    + (
                        "Record one drive to a file, or export fewer channels, and send it again."
                        if self._most > STRANGER_LIMIT_BYTES
                        else "Fill in the form as it stands on its page, and send it again."
                    )
                ),
            )
        else:
            status, words = (
                408,
                "This came too slowly to be taken. What arrived of a log in pieces is kept: send it again.",
            )
        await PlainTextResponse(words, status_code=status, headers=_CLOSE)(self._scope, self._receive, self.send)
