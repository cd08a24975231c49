"""The gate before every body: nothing is read of it until session or link, and the form's token, are known to be good.

A form without a header for the token has it among its first fields; only so much is read as is needed to find it, and
every byte is looked at once, however small the pieces are in which it comes (`web/requests/form_token.py`).
"""

from __future__ import annotations

import re
from collections.abc import Callable

from anyio import to_thread
from fastapi import Request
from starlette.datastructures import Headers
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from uchiwa.store.models import User
from uchiwa.store.roles import READER
from uchiwa.web.api.caller import PATH as API
from uchiwa.web.api.caller import TooOftenError, token_in
from uchiwa.web.api.refusals import NO_TOKEN, TOO_OFTEN
from uchiwa.web.api.refusals import said as api_said
from uchiwa.web.errors import not_signed_in, refusal
from uchiwa.web.requests.browser import Browser, browser_of
from uchiwa.web.requests.form_token import PLACE_BYTES, search_for
from uchiwa.web.requests.limits import is_open
from uchiwa.web.requests.links import LINK, TooManyGuessesError, open_link
from uchiwa.web.requests.session import NOT_OUR_FORM, person_of

PROGRAM = re.compile(r"/c/[^/]{1,200}/live(?:/\d{1,19}/(?:batches|end|overlay))?$")
"""What programs at the car send: known by the link and their session's key, never by a cookie, so that no form is needed."""
_PROGRAMS_SEND = ("application/json", "application/x-ndjson")
"""No page of another site can have a browser send these without asking first."""
_SAFE = ("GET", "HEAD", "OPTIONS")
_READERS_OWN = ("/account", "/settings/", "/sign-out")
"""What somebody who changes nothing in the shop may still send."""

LOOKING_ON = "You look on in this shop: you can see everything and change nothing. The owner can let you do more."


class Gate:
    """Lets a request through that may be answered, and answers the others without reading them."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one request."""
        if scope["type"] != "http" or scope["method"] in _SAFE:
            await self.app(scope, receive, send)
            return
        if scope["path"].startswith(f"{API}/"):
            refused = await to_thread.run_sync(_stranger_to_api, scope)
            if refused is None:
                await self.app(scope, receive, send)
            else:
                refused.headers["connection"] = "close"
                await refused(scope, receive, send)
            return
        request = Request(scope)
        browser = browser_of(scope)
        refused = await self._stranger(request, browser)
        if refused is None:
            body = _Body(receive)
            browser.allowed = _of_a_program(request) or browser.is_form_token(await self._token(request.headers, body))
            if browser.allowed:
                await self.app(scope, body, send)
                return
            refused = refusal(request, 403, NOT_OUR_FORM)
        refused.headers["connection"] = "close"
        await refused(scope, receive, send)

    async def _stranger(self, request: Request, browser: Browser) -> Response | None:
        """The answer to somebody who has neither a session nor a link; None for those who have."""
        path = request.scope["path"]
        if is_open(path):
            return None
        if (found := LINK.match(path)) is not None:
            return await self._at_link(request, found["token"])
        person: Callable[[Browser], User | None] = person_of
        user = await to_thread.run_sync(person, browser)
        if user is None:
            return not_signed_in(request)
        if user.role == READER and not path.startswith(_READERS_OWN):
            return refusal(request, 403, LOOKING_ON)
        return None

    async def _at_link(self, request: Request, token: str) -> Response | None:
        try:
            opened = await to_thread.run_sync(open_link, request.scope, token)
        except TooManyGuessesError:
            return refusal(request, 429, "Too many unknown links. Wait ten minutes, then try again.")
        if opened is None:
            return refusal(request, 404)
        return None

    async def _token(self, headers: Headers, body: _Body) -> str:
        """The form's token: of the header, or of the first fields."""
        if "x-csrf" in headers:
            return headers["x-csrf"]
        search = search_for(headers.get("content-type", ""))
        if search is None:
            return ""
        while not search.ended and await body.more(PLACE_BYTES):
            search.look(body.seen, whole=body.ended)
        return search.token


def _of_a_program(request: Request) -> bool:
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    return kind in _PROGRAMS_SEND and PROGRAM.match(request.scope["path"]) is not None


def _stranger_to_api(scope: Scope) -> Response | None:
    """The answer to a program without a token that works; cookies and forms are nothing to it."""
    try:
        token = token_in(scope)
    except TooOftenError:
        return api_said(429, TOO_OFTEN)
    return None if token is not None else api_said(401, NO_TOKEN)


class _Body:
    """What comes of a body: read ahead as far as asked, then handed on whole."""

    def __init__(self, receive: Receive) -> None:
        self._receive = receive
        self._ahead: list[Message] = []
        self.seen = bytearray()
        self.ended = False

    async def more(self, most: int) -> bool:
        """Read another piece, unless the body has ended or so much was read already; whether one came."""
        if self.ended or len(self.seen) >= most:
            return False
        message = await self._receive()
        self._ahead.append(message)
        self.seen += message.get("body", b"")
        self.ended = message["type"] != "http.request" or not message.get("more_body", False)
        return True

    async def __call__(self) -> Message:
        """The next message, as the application asks for it."""
        if self._ahead:
            self.seen = bytearray()
            return self._ahead.pop(0)
        return await self._receive()
