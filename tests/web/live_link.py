"""What tests of Live do over the web."""

from __future__ import annotations

from uchiwa.store import live_sessions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveSession

ORIGIN = {"origin": "http://testserver"}
JSON = {"content-type": "application/json"}


def fresh(session_id: int) -> LiveSession:
    with unit_of_work():
        return live_sessions.get(session_id)


def said(socket, key: str, most: int = 60):
    """The next message that has something."""
    for _ in range(most):
        message = socket.receive_json()
        if key in message:
            return message[key]
    raise AssertionError(f"no {key}")
