"""The link of a stand-in car: passes rows on over a WebSocket, sends again what was not acknowledged, hears what it is told."""

from __future__ import annotations

import gzip
import json
import threading
import time
import urllib.error
import urllib.request
from collections import OrderedDict
from collections.abc import Callable
from typing import Any
from urllib.parse import urlsplit

from websockets.exceptions import WebSocketException
from websockets.sync.client import ClientConnection, connect

from uchiwa.core.errors import BadInput

_RETRY_S = 0.4
_OPEN_S = 5.0
_HEAR_S = 0.05
_AHEAD = 24
"""Batches on their way without an acknowledgement."""
_TIMEOUT_S = 10.0


class RefusedError(BadInput):
    """The other side has said no for good."""


def _request(address: str, body: bytes | None, key: str = "", *, packed: bool = False) -> dict[str, Any]:
    headers = {"Content-Type": "application/json", "Accept": "application/json"}
    if key:
        headers["Authorization"] = f"Bearer {key}"
    if packed and body is not None:
        headers["Content-Encoding"], body = "gzip", gzip.compress(body, 5)
    if urlsplit(address).scheme not in ("http", "https"):
        raise RefusedError(f"{address} is no link", advice="copy the whole link from the customer’s page")
    request = urllib.request.Request(address, data=body, headers=headers)  # noqa: S310 - checked above
    try:
        with urllib.request.urlopen(request, timeout=_TIMEOUT_S) as answer:  # noqa: S310
            found: dict[str, Any] = json.loads(answer.read())
            return found
    except urllib.error.HTTPError as error:
        text = error.read().decode("utf-8", "replace")
        try:
            told = json.loads(text)
        except ValueError:
            told = {
                "refused": "the link is not known, or was ended"
                if error.code == 404
                else f"the server says {error.code}"
            }
        if error.code >= 500 or error.code == 408:
            raise OSError(told.get("refused", text)) from None
        raise RefusedError(str(told.get("refused", text)).rstrip("."), advice="see docs/live.md") from None


class LiveLink:
    """A session begun at a customer's link.

    Args:
        link: the customer's page.
        opening: as the protocol has it.
        hear: called with everything that is told, from the link's own thread.
        plain: whether to go over plain HTTP instead of a WebSocket.
        advised: whether the driver wants to be told what to hold next.

    Attributes:
        kept, sent: numbers of the last batches that were acknowledged and sent.
        breaks: of the link.
        linked: whether a WebSocket is open and was answered.
        refused: why the other side said no for good.
    """

    def __init__(
        self,
        link: str,
        opening: dict[str, Any],
        hear: Callable[[dict[str, Any]], None],
        *,
        plain: bool = False,
        advised: bool = False,
    ) -> None:
        self.link, self.hear, self.plain, self.advised = link.rstrip("/"), hear, plain, advised
        begun = _request(f"{self.link}/live", json.dumps(opening).encode())
        self.session, self.key, self.said = int(begun["session"]), str(begun["key"]), str(begun.get("said", ""))
        self.here = f"{self.link}/live/{self.session}"
        self.kept, self.sent, self.breaks, self.refused = 0, 0, 0, ""
        self.heard_at, self.linked = time.monotonic(), False
        self._numbered: OrderedDict[int, str] = OrderedDict()
        self._last, self._ending, self._over = 0, False, threading.Event()
        self._cut_until, self._lock = 0.0, threading.Lock()
        self._say: list[dict[str, Any]] = []
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def send(self, rows: list[list[float]]) -> int:
        """Pass rows on; kept here until they are acknowledged. The batch's number."""
        with self._lock:
            self._last += 1
            self._numbered[self._last] = json.dumps({"batch": self._last, "rows": rows}, separators=(",", ":"))
            return self._last

    def say(self, told: dict[str, Any]) -> None:
        """Tell something besides, such as which overlay is driven; not sent again if the link breaks."""
        with self._lock:
            self._say.append(told)

    def cut(self, seconds: float) -> None:
        """Have no link for so long."""
        self.breaks += 1
        self._cut_until = time.monotonic() + seconds

    @property
    def silent_s(self) -> float:
        """How long nothing was heard."""
        return time.monotonic() - self.heard_at

    def end(self, within_s: float = 120.0) -> bool:
        """Send what is left and end the session; whether all of it was acknowledged."""
        self._ending = True
        self._over.wait(within_s)
        self._thread.join(5.0)
        return self.kept >= self._last

    def _run(self) -> None:
        while not self._over.is_set():
            if time.monotonic() < self._cut_until:
                time.sleep(_HEAR_S)
                continue
            try:
                if self.plain:
                    self._over_http()
                else:
                    self._over_socket()
            except RefusedError as error:
                self.refused = str(error)
                self._over.set()
            except (OSError, WebSocketException, TimeoutError):
                self.linked = False
                self.breaks += time.monotonic() >= self._cut_until
                self._over.wait(_RETRY_S)

    def _due(self) -> list[tuple[int, str]]:
        """The next batches to send."""
        with self._lock:
            ahead = self.sent - self.kept
            found = [(number, text) for number, text in self._numbered.items() if number > self.sent]
            return found[: max(0, _AHEAD - ahead)]

    def _acknowledged(self, through: int) -> None:
        with self._lock:
            self.kept = max(self.kept, through)
            for number in [one for one in self._numbered if one <= through]:
                del self._numbered[number]

    def _take(self, told: dict[str, Any]) -> bool:
        """What was told; whether the session is over."""
        self.heard_at = time.monotonic()
        if "kept" in told:
            self._acknowledged(int(told["kept"]))
        if "next" in told:
            self.sent = int(told["next"]) - 1
        if told.get("ended"):
            self._over.set()
        elif set(told) - {"kept", "next", "beat"}:
            self.hear(told)
        return self._over.is_set()

    def _over_socket(self) -> None:
        address = self.here.replace("http", "ws", 1) + "/passing"
        with connect(address, open_timeout=_OPEN_S, close_timeout=1.0, max_size=4_000_000) as socket:
            socket.send(json.dumps({"key": self.key, "advice": self.advised}))
            first = json.loads(socket.recv(timeout=_OPEN_S))
            if "next" not in first:
                raise RefusedError(str(first.get("refused", "refused")).rstrip("."))
            self._take(first)
            self.linked, ended = True, False
            while not self._over.is_set():
                if time.monotonic() < self._cut_until:
                    socket.socket.close()
                    raise OSError("cut")
                for number, text in self._due():
                    socket.send(text)
                    self.sent = number
                self._tell(socket)
                if self._ending and not ended and self.kept >= self._last:
                    socket.send('{"end":true}')
                    ended = True
                self._listen(socket)

    def _tell(self, socket: ClientConnection) -> None:
        with self._lock:
            told, self._say = self._say, []
        for one in told:
            socket.send(json.dumps(one))

    def _listen(self, socket: ClientConnection) -> None:
        try:
            text = socket.recv(timeout=_HEAR_S)
        except TimeoutError:
            return
        told = json.loads(text)
        if "refused" in told and "next" not in told and "beat" not in told:
            self.hear(told)
            return
        self._take(told)

    def _over_http(self) -> None:
        overlay = 0.0
        self.sent = self.kept
        while not self._over.is_set() and time.monotonic() >= self._cut_until:
            due = self._due()
            if due:
                body = "\n".join(text for _, text in due).encode()
                self._take(_request(f"{self.here}/batches", body, self.key, packed=True))
            with self._lock:
                told, self._say = self._say, []
            for one in told:
                self._take(_request(f"{self.here}/overlay", json.dumps(one).encode(), self.key))
            if time.monotonic() - overlay > 0.5:
                overlay = time.monotonic()
                self._take({"overlay": _request(f"{self.here}/overlay", None, self.key)})
            if self._ending and self.kept >= self._last:
                _request(f"{self.here}/end", b"{}", self.key)
                self._over.set()
            elif not due:
                time.sleep(_HEAR_S)
