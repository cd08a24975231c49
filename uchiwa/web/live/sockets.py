"""WebSockets of pages: opened by our own pages only, by people who may."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from anyio import to_thread
from fastapi import WebSocket
from pydantic_core import to_json
from starlette.websockets import WebSocketDisconnect

from uchiwa.core.json_text import read_json

NOT_OURS, NOT_OPEN, OVER = 4403, 4404, 4410
"""Codes with which a WebSocket is closed: by another site's page, without leave, after the session's end."""
__all__ = ["NOT_OPEN", "NOT_OURS", "OVER", "WebSocketDisconnect", "in_thread", "is_our_page", "message_of", "send"]


def is_our_page(socket: WebSocket) -> bool:
    """Whether a page of ours has opened it: browsers say of which origin a page is, and cannot be made to say otherwise."""
    origin = socket.headers.get("origin", "")
    settings = socket.app.state.settings
    ours = {urlsplit(settings.public_address).netloc, socket.headers.get("host", "")}
    return bool(origin) and urlsplit(origin).netloc in ours


async def send(socket: WebSocket, data: dict[str, Any]) -> None:
    """Send plain data; what is no number is null."""
    await socket.send_text(to_json(data, inf_nan_mode="null").decode())


def message_of(text: str) -> Any:
    """A message as plain data.

    Raises:
        BadInput: it is not JSON.
    """
    return read_json(text, where="a message", advice="see docs/live.md")


in_thread = to_thread.run_sync
