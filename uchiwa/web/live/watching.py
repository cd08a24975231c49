"""One watcher's WebSocket: told what is new as it comes, for as long as the page is open."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable
from typing import Any, TypeVar

from fastapi import WebSocket

from uchiwa.core.errors import BadInput
from uchiwa.store.models import LiveSession
from uchiwa.web.live.followers import Follower, follow
from uchiwa.web.live.sockets import (
    NOT_OPEN,
    NOT_OURS,
    WebSocketDisconnect,
    in_thread,
    is_our_page,
    message_of,
    send,
)
from uchiwa.web.live.telling import Teller, WatcherRequest

_CORRECTION_EVERY_S = 0.6
_STILL_THERE_S = 2.0
_MAY_EVERY_S = 10.0


Looker = TypeVar("Looker")


async def look_on(
    socket: WebSocket,
    opened: Callable[[], tuple[LiveSession, Looker] | None],
    teller_of: Callable[[Follower, Looker], Teller],
    may: Callable[[], bool],
    *,
    deep: bool,
) -> None:
    """Show a session to a page of ours, as long as whoever has it open may look on.

    Args:
        socket: not accepted yet.
        opened: the session and who looks on, from the database; None for somebody who may not. It may wait.
        teller_of: what tells them.
        may: whether somebody who looked on still may; asked again and again, so that it should be one statement.
        deep: whether checks, drives and correction are told, which only the tuner sees.
    """
    if not is_our_page(socket):
        await socket.close(NOT_OURS)
        return
    found = await in_thread(opened)
    if found is None:
        await socket.close(NOT_OPEN)
        return
    session, looker = found
    await socket.accept()
    follower = await follow(session)
    await watch(socket, follower, teller_of(follower, looker), may, deep=deep)


async def watch(socket: WebSocket, follower: Follower, teller: Teller, may: Callable[[], bool], *, deep: bool) -> None:
    """Tell until the page is closed, its person may look on no more, or the session is gone.

    Args:
        socket: accepted.
        follower: of the session.
        teller: what this watcher has been told.
        may: whether the person still may look on.
        deep: whether checks, drives and correction are told, which only the tuner sees.
    """
    told = _Telling(socket, follower, teller, deep=deep)
    leave = follower.watch(told.begin)
    try:
        told.begin()
        tasks = [
            asyncio.create_task(coroutine) for coroutine in (_hear(socket, told), told.until_over(), _until_shut(may))
        ]
        await until_the_first(tasks)
        with contextlib.suppress(RuntimeError, WebSocketDisconnect):
            await socket.close()
    finally:
        leave()


async def until_the_first(tasks: list[asyncio.Task[None]]) -> None:
    """Until one of them is done; then the others are ended as well. A page that was closed is no fault."""
    try:
        await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for task in tasks:
            task.cancel()
        found = await asyncio.gather(*tasks, return_exceptions=True)
    for error in found:
        if isinstance(error, Exception) and not _is_closed(error):
            raise error


def _is_closed(error: Exception) -> bool:
    """Whether an error only says that the other side has gone: Starlette tells it so, or as a call that came too late."""
    late = isinstance(error, RuntimeError) and str(error).startswith(("Cannot call", "Unexpected ASGI message"))
    return late or isinstance(error, WebSocketDisconnect)


async def _hear(socket: WebSocket, told: _Telling) -> None:
    while True:
        try:
            told.teller.wish = WatcherRequest.read(message_of(await socket.receive_text()))
        except BadInput:
            continue
        told.begin()


async def _until_shut(may: Callable[[], bool]) -> None:
    while True:
        await asyncio.sleep(_MAY_EVERY_S)
        if not await in_thread(may):
            return


class _Telling:
    """Tells one watcher whenever its follower says so; while it is being told it is not told again."""

    def __init__(self, socket: WebSocket, follower: Follower, teller: Teller, *, deep: bool) -> None:
        self.socket, self.follower, self.teller, self.deep = socket, follower, teller, deep
        self._over: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._task: asyncio.Task[None] | None = None
        self._told_at = self._corrected_at = 0.0
        self._why: dict[str, Any] = {}

    def begin(self) -> None:
        """Tell what is new."""
        if self._task is None or self._task.done():
            self._task = asyncio.create_task(self._tell())

    async def until_over(self) -> None:
        """Until the session is gone, or the watcher cannot be told; a sign of life now and then."""
        loop = asyncio.get_running_loop()
        while not self._over.done():
            await asyncio.wait([self._over], timeout=_STILL_THERE_S)
            if loop.time() - self._told_at >= _STILL_THERE_S:
                self.begin()
        self._over.result()

    async def _tell(self) -> None:
        try:
            found = await self._news()
            at = asyncio.get_running_loop().time()
            if found or at - self._told_at >= _STILL_THERE_S:
                self._told_at = at
                await send(self.socket, found)
            if found.get("gone"):
                self._end(None)
        except Exception as error:
            self._end(error)

    def _end(self, error: Exception | None) -> None:
        if self._over.done():
            return
        if error is None:
            self._over.set_result(None)
        else:
            self._over.set_exception(error)

    async def _news(self) -> dict[str, Any]:
        found = self.teller.standing()
        if self.teller.must_ask:
            found["events"] = await in_thread(self.teller.events)
        async with self.follower.settled():
            self._of_rows(found)
        return found

    def _of_rows(self, found: dict[str, Any]) -> None:
        parts = self.teller.found()
        if not self.deep:  # the driver sees what ticks, not what the tuner works on
            parts = {"items": self.teller.in_their_words(parts["items"])} if "items" in parts else {}
        if parts:
            found["found"] = parts
        found |= self.teller.news()
        advice = self.teller.advice()
        if advice is not None:
            found["advice"] = advice
        at = asyncio.get_running_loop().time()
        if self.deep and at - self._corrected_at >= _CORRECTION_EVERY_S:
            self._corrected_at = at
            now = self.teller.correction_now()
            if now != self._why:
                self._why = found["correcting"] = now
