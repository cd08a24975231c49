"""One follower for each session that somebody watches in this process: it asks the database, and wakes whoever watches."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from contextlib import nullcontext

import pymysql
from anyio import to_thread
from peewee import PeeweeException
from playhouse.pool import MaxConnectionsExceeded

from uchiwa.core.live.advice import Advice
from uchiwa.services.live import growing
from uchiwa.services.live.growing import Growing
from uchiwa.services.live.guiding import Guide
from uchiwa.store import live_sessions
from uchiwa.store.database import database
from uchiwa.store.live_sessions import Standing
from uchiwa.store.models import LiveSession

LOOK_S = 0.14
_STANDING_EVERY = 3
_LINGERS_S = 3.0
_NO_DATABASE = (PeeweeException, pymysql.MySQLError, MaxConnectionsExceeded, OSError)
_log = logging.getLogger("uchiwa.live")


class Follower:
    """Follows one session as long as somebody watches it.

    Attributes:
        growing: the rows, and what they fill.
        standing: how the session stands; None once it is gone.
        advice: to the driver.
        version: grows whenever one of these has changed.
    """

    def __init__(self, growing_: Growing, standing: Standing | None) -> None:
        self.growing, self.standing = growing_, standing
        self.guide = Guide(growing_)
        self.advice: Advice | None = None
        self.version = 0
        self.watchers = 0
        self._woken = asyncio.Event()
        self._task: asyncio.Task[None] | None = None
        self._looks = 0
        self._hurried = asyncio.Event()

    def begin(self) -> None:
        """Look from now on."""
        self._task = asyncio.create_task(self._look_on())

    async def changed(self, since: int, longest_s: float) -> bool:
        """Wait until something is newer than a version; whether it is."""
        if self.version == since:
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._woken.wait(), longest_s)
        return self.version != since

    def hurry(self) -> None:
        """Look at once: something was kept in this process."""
        self._hurried.set()

    async def _look_on(self) -> None:
        idle = 0.0
        while idle < _LINGERS_S:
            try:
                if await to_thread.run_sync(self._look):
                    self._wake()
            except _NO_DATABASE as error:
                _log.warning("a live session cannot be followed just now: %s", error)
                await asyncio.sleep(0.5)
            self._hurried.clear()
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._hurried.wait(), LOOK_S)
            idle = 0.0 if self.watchers else idle + LOOK_S
        if _followers.get(self.growing.session_id) is self:
            del _followers[self.growing.session_id]

    def _wake(self) -> None:
        self.version += 1
        self._woken.set()
        self._woken = asyncio.Event()

    def _look(self) -> bool:
        """Take in what is new; whether there is something."""
        self._looks += 1
        with database.connection_context() if database.is_closed() else nullcontext():
            grown = self.growing.advance()
            changed = False
            if self._looks % _STANDING_EVERY == 1 or self.standing is None:
                standing = live_sessions.standing(self.growing.session_id)
                changed = standing != self.standing
                self.standing = standing
        if grown or self.advice is None:
            self.advice = self.guide.advise()
        return grown or changed


_followers: dict[int, Follower] = {}


async def follow(session: LiveSession) -> Follower:
    """The follower of a session in this process, begun if there is none."""
    found = _followers.get(session.id)
    if found is None:
        made = await to_thread.run_sync(_made, session)
        found = _followers.setdefault(session.id, made)
        if found is made:
            made.begin()
    return found


def _made(session: LiveSession) -> Follower:
    followed = growing.follow(session)
    followed.advance()
    with database.connection_context() if database.is_closed() else nullcontext():
        return Follower(followed, live_sessions.standing(session.id))


def hurry(session_id: int) -> None:
    """Something of a session was kept in this process just now."""
    found = _followers.get(session_id)
    if found is not None:
        found.hurry()
