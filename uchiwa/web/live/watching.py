"""One watcher's WebSocket: told what is new as it comes, for as long as the page is open."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Awaitable, Callable
from typing import Any

from fastapi import WebSocket

from uchiwa.core.errors import BadInput
from uchiwa.web.live.followers import Follower
from uchiwa.web.live.sockets import WebSocketDisconnect, in_thread, message_of, send
from uchiwa.web.live.telling import Teller, Wish

LEAST_APART_S = 0.1
_CORRECTION_EVERY_S = 0.5
_STILL_THERE_S = 2.0
_MAY_EVERY_S = 5.0


async def watch(
    socket: WebSocket, follower: Follower, teller: Teller, may: Callable[[], Awaitable[bool]], *, deep: bool
) -> None:
    """Tell until the page is closed, its person may look on no more, or the session is gone.

    Args:
        socket: accepted.
        follower: of the session.
        teller: what this watcher has been told.
        may: whether the person still may look on.
        deep: whether checks, drives and correction are told, which only the tuner sees.
    """
    follower.watchers += 1
    tasks = [
        asyncio.create_task(one)
        for one in (_hear(socket, teller), _tell(socket, follower, teller, deep=deep), _until_shut(may))
    ]
    try:
        await until_the_first(tasks)
        with contextlib.suppress(RuntimeError, WebSocketDisconnect):
            await socket.close()
    finally:
        follower.watchers -= 1


async def until_the_first(tasks: list[asyncio.Task[None]]) -> None:
    """Until one of them is done; then the others are ended as well. A page that was closed is no fault."""
    try:
        await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
    finally:
        for one in tasks:
            one.cancel()
        found = await asyncio.gather(*tasks, return_exceptions=True)
    for error in found:
        if isinstance(error, Exception) and not _is_closed(error):
            raise error


def _is_closed(error: Exception) -> bool:
    """Whether an error only says that the other side has gone: Starlette tells it so, or as a call that came too late."""
    late = isinstance(error, RuntimeError) and str(error).startswith(("Cannot call", "Unexpected ASGI message"))
    return late or isinstance(error, WebSocketDisconnect)


async def _hear(socket: WebSocket, teller: Teller) -> None:
    while True:
        try:
            teller.wish = Wish.read(message_of(await socket.receive_text()))
        except BadInput:
            continue


async def _until_shut(may: Callable[[], Awaitable[bool]]) -> None:
    while True:
        await asyncio.sleep(_MAY_EVERY_S)
        if not await may():
            return


async def _tell(socket: WebSocket, follower: Follower, teller: Teller, *, deep: bool) -> None:
    loop = asyncio.get_running_loop()
    version, told_at, corrected_at = -1, 0.0, 0.0
    why: dict[str, Any] = {}
    while True:
        new = await follower.changed(version, _STILL_THERE_S)
        version = follower.version
        found: dict[str, Any] = {}
        if new or not told_at:
            if follower.standing != teller.told.standing:
                found |= await in_thread(teller.standing)
                if not deep:
                    found.pop("found", None)
            found |= teller.news()
            advice = teller.advice()
            if advice is not None:
                found["advice"] = advice
            if deep and loop.time() - corrected_at >= _CORRECTION_EVERY_S:
                corrected_at = loop.time()
                now = teller.correction_now()
                if now != why:
                    why = found["correcting"] = now
        if found or loop.time() - told_at >= _STILL_THERE_S:
            await send(socket, found)
            told_at = loop.time()
        if found.get("gone"):
            return
        await asyncio.sleep(LEAST_APART_S)
