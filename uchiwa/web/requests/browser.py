"""The browser that asks: known by a secret cookie, from which the token of its forms follows."""

from __future__ import annotations

import hashlib
import hmac
import re
import secrets
from dataclasses import dataclass, field
from http.cookies import CookieError, SimpleCookie

from itsdangerous import BadSignature, URLSafeSerializer
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from uchiwa.store import sessions

COOKIE, DEVICE = "uchiwa", "uchiwa-device"
DEVICE_PATH = "/sign-in"
_LASTS_S = 14 * 24 * 3600
_DEVICE_LASTS_S = 400 * 24 * 3600
_TOKEN = re.compile(r"[A-Za-z0-9_-]{20,64}")
_KEY = "uchiwa.browser"
_NOT_ASKED = object()


@dataclass
class Browser:
    """What is known of the browser behind a request.

    Attributes:
        token: names its session; who has it is signed in, if it is.
        device: the value of its device cookie, as it came.
        secrets: the installation's, the newest first.
        secure: whether its cookies go over TLS only.
        fresh: whether it has to be told its token.
        cookies: others to be set with the answer.
        person: whom the session was found to belong to, once that has been asked.
        allowed: whether the request was found to carry the token of our forms.
        opened: what the link of a customer's page was found to open.
    """

    token: str
    device: str
    secrets: tuple[str, ...]
    secure: bool
    fresh: bool = False
    cookies: list[str] = field(default_factory=list)
    person: object = _NOT_ASKED
    allowed: bool = False
    opened: object = None

    @property
    def asked(self) -> bool:
        """Whether its person has been looked up for this request."""
        return self.person is not _NOT_ASKED

    @property
    def form_token(self) -> str:
        """What its forms carry as proof that they are ours; follows from its own token, and does not tell it."""
        return self._form_token(self.secrets[0])

    def _form_token(self, secret: str) -> str:
        return hmac.new(secret.encode(), f"form {self.token}".encode(), hashlib.sha256).hexdigest()

    def is_form_token(self, given: str) -> bool:
        """Whether a request carries it, from whichever of the secrets."""
        return any(secrets.compare_digest(given.encode(), self._form_token(secret).encode()) for secret in self.secrets)

    def new_once(self) -> str:
        """A name for a form that is to be sent once only, however often its button is pressed."""
        return secrets.token_urlsafe(12)

    def become(self, token: str) -> None:
        """Have another session from now on."""
        self.token, self.fresh, self.person = token, True, _NOT_ASKED

    def set_cookie(self, name: str, value: str, lasts_s: int, path: str = "/") -> None:
        """Set a cookie with the answer, which no script can read."""
        safe = "; Secure" if self.secure else ""
        called = cookie_name(name, secure=self.secure, path=path)
        self.cookies.append(f"{called}={value}; Path={path}; Max-Age={lasts_s}; HttpOnly; SameSite=Lax{safe}")

    def _devices(self) -> URLSafeSerializer:
        return URLSafeSerializer(list(reversed(self.secrets)), salt="device")

    def known_device(self, email: str) -> str:
        """The name of this device, if the person with this address has signed in on it before; else empty."""
        try:
            told = self._devices().loads(self.device)
        except BadSignature:
            return ""
        mine = isinstance(told, dict) and told.get("who") == _who(email)
        return str(told.get("name", "")) if mine else ""

    def remember_device(self, email: str) -> None:
        """Know this device again when the person signs in the next time."""
        name = self.known_device(email) or secrets.token_urlsafe(12)
        value = self._devices().dumps({"who": _who(email), "name": name})
        self.set_cookie(DEVICE, str(value), _DEVICE_LASTS_S, path=DEVICE_PATH)


def cookie_name(name: str, *, secure: bool, path: str = "/") -> str:
    """A cookie's name; over TLS with the prefix that binds it to this host, or for one path to TLS (RFC 6265bis, 4.1.3)."""
    if not secure:
        return name
    return f"__Host-{name}" if path == "/" else f"__Secure-{name}"


def _who(email: str) -> str:
    return hashlib.sha256(f"device of {email.strip().lower()}".encode()).hexdigest()[:24]


def browser_of(scope: Scope) -> Browser:
    """The browser behind a request."""
    found: Browser = scope[_KEY]
    return found


def _cookies(scope: Scope) -> SimpleCookie:
    jar = SimpleCookie()
    for name, value in scope["headers"]:
        if name == b"cookie":
            try:
                jar.load(value.decode("latin-1"))
            except CookieError:
                continue
    return jar


class BrowserMiddleware:
    """Finds out which browser asks, and tells a new one its name with the first page."""

    def __init__(self, app: ASGIApp, secrets: tuple[str, ...], *, secure: bool) -> None:
        self.app, self.secrets, self.secure = app, secrets, secure

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Serve one request."""
        if scope["type"] not in ("http", "websocket"):
            await self.app(scope, receive, send)
            return
        jar = _cookies(scope)
        session, device = (
            cookie_name(one, secure=self.secure, path=path) for one, path in ((COOKIE, "/"), (DEVICE, DEVICE_PATH))
        )
        given = jar[session].value if session in jar else ""
        known = _TOKEN.fullmatch(given) is not None
        browser = Browser(
            given if known else sessions.new_token(),
            jar[device].value if device in jar else "",
            self.secrets,
            self.secure,
            fresh=not known,
        )
        scope[_KEY] = browser

        async def telling(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                page = headers.get("content-type", "").startswith("text/html")
                if page or (browser.fresh and known):
                    browser.set_cookie(COOKIE, browser.token, _LASTS_S)
                for cookie in browser.cookies:
                    headers.append("set-cookie", cookie)
            await send(message)

        await self.app(scope, receive, telling)
