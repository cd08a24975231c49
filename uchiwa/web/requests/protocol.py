"""HTTP as uvicorn speaks it, with an end to the patience for the head of a request."""

from __future__ import annotations

import asyncio
import socket

from uvicorn.protocols.http.h11_impl import H11Protocol

HEAD_WITHIN_S = 15.0


class PunctualProtocol(H11Protocol):  # type: ignore[misc]  # uvicorn brings no types
    """Closes a connection that has not sent the head of its request within a quarter of a minute."""

    _deadline: asyncio.TimerHandle | None = None
    _upgraded = False

    def connection_made(self, transport: asyncio.Transport) -> None:
        """A new connection: its first head is waited for."""
        super().connection_made(transport)
        # A listening socket made for several processes does not pass this on, and each answer would wait for 40 ms.
        connection = transport.get_extra_info("socket")
        if connection is not None and connection.family in (socket.AF_INET, socket.AF_INET6):
            connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._expect_head()

    def handle_websocket_upgrade(self, event: object) -> None:
        """From now on it is a WebSocket's, which may be silent."""
        self._stop_expecting()
        self._upgraded = True
        super().handle_websocket_upgrade(event)

    def connection_lost(self, exc: Exception | None) -> None:
        """Nothing more is waited for."""
        self._stop_expecting()
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        """Bytes came; once a head is whole, the application takes over."""
        if self._between_requests() and self._deadline is None and not self._upgraded:
            self._expect_head()
        super().data_received(data)
        if not self._between_requests():
            self._stop_expecting()

    def _between_requests(self) -> bool:
        return self.cycle is None or self.cycle.response_complete

    def _expect_head(self) -> None:
        self._deadline = self.loop.call_later(HEAD_WITHIN_S, self.transport.close)

    def _stop_expecting(self) -> None:
        if self._deadline is not None:
            self._deadline.cancel()
            self._deadline = None
