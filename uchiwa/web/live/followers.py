"""Sessions that somebody watches in this process, followed together: one look at the database for all of them.

Whoever watches is woken when something has come. The looks are made by a thread of their own, on a connection that stays.
"""

from __future__ import annotations

import asyncio
import logging
import time
from collections.abc import AsyncIterator, Callable, Hashable, Iterable
from contextlib import asynccontextmanager, suppress
from threading import Lock, Thread
from typing import Any, TypeVar

import pymysql
from anyio import to_thread
from peewee import PeeweeException
from playhouse.pool import MaxConnectionsExceeded

from uchiwa.core.live.advice import Advice
from uchiwa.services.live import growing
from uchiwa.services.live.analysis import Analysis
from uchiwa.services.live.growing import GrowingSession
from uchiwa.services.live.guiding import Guide
from uchiwa.store import live_passing, live_sessions
from uchiwa.store.database import connected, database, run_again
from uchiwa.store.live_sessions import SessionNews, SessionState
from uchiwa.store.models import LiveSession

LOOK_S = 0.36
_STANDING_EVERY = 3
_LINGERS_S = 3.0
_PAUSE_S = 0.5
_SETTLES_S = 0.005
_ADVICE_EVERY_S = 0.7
_NO_DATABASE = (PeeweeException, pymysql.MySQLError, MaxConnectionsExceeded, OSError)
_log = logging.getLogger("uchiwa.live")

Shared = TypeVar("Shared")


class Follower:
    """One session, for as long as somebody watches it.

    Attributes:
        growing: the rows, and what they fill.
        standing: how the session stands; None once it is gone.
        analysis: what the worker has found.
        watchers: called whenever one of these may have changed, each in the loop it came from.
    """

    def __init__(self, growing_: GrowingSession) -> None:
        self.growing = growing_
        self.standing: SessionState | None = None
        self.analysis = Analysis()
        self.guide = Guide(growing_)
        self.watchers: list[tuple[asyncio.AbstractEventLoop, Callable[[], None]]] = []
        self.unwatched = 0.0
        self._advice: Advice | None = None
        self._advised_at = 0.0
        self._shared: dict[Hashable, Any] = {}
        self._shared_at = -1

    @property
    def advice(self) -> Advice:
        """To the driver, by the newest rows; worked out a few times a second. Ask for it while rows are settled."""
        at = time.monotonic()
        if self._advice is None or at - self._advised_at >= _ADVICE_EVERY_S:
            self._advised_at = at
            self._advice = self.guide.advise()
        return self._advice

    def hear(self, news: SessionNews | None) -> bool:
        """Note how the session stands and what the worker has found, None if it is gone; whether something is new."""
        standing = news.standing if news is not None else None
        changed, self.standing = standing != self.standing, standing
        if news is not None and news.analysis is not None and news.limits is not None:
            self.analysis = Analysis.read((news.standing.analysed, news.standing.limits), news.analysis, news.limits)
            changed = True
        return changed

    def once(self, what: Hashable, work_out: Callable[[], Shared]) -> Shared:
        """What several watchers are told alike, worked out for the first of them and forgotten with the next rows.

        Ask for it while rows are settled, and change nothing in it.
        """
        if self._shared_at != self.growing.growth.size:
            self._shared_at = self.growing.growth.size
            self._shared.clear()
        if what not in self._shared:
            self._shared[what] = work_out()
        found: Shared = self._shared[what]
        return found

    @asynccontextmanager
    async def settled(self) -> AsyncIterator[None]:
        """While no rows are taken in, so that what is read is of one moment; the loop goes on until then."""
        while not self.growing.lock.acquire(blocking=False):
            await asyncio.sleep(_SETTLES_S)
        try:
            yield
        finally:
            self.growing.lock.release()

    def watch(self, tell: Callable[[], None]) -> Callable[[], None]:
        """Have something called, in this loop, whenever there is news. What ends it."""
        watcher = (asyncio.get_running_loop(), tell)
        self.watchers.append(watcher)
        return lambda: self.watchers.remove(watcher)


def tell_all(followers: Iterable[Follower]) -> None:
    """Have everybody told who watches one of them, from any thread; to wake a loop costs the same for one as for all.

    One who is still being told hears of it the next time.
    """
    here = [watcher for follower in followers for watcher in list(follower.watchers)]
    for loop in {loop for loop, _ in here}:
        with suppress(RuntimeError):  # the loop is closed: whoever watched in it has gone
            loop.call_soon_threadsafe(_call, [tell for its, tell in here if its is loop])


def _call(these: list[Callable[[], None]]) -> None:
    for one in these:
        one()


_followers: dict[int, Follower] = {}
_turns = Lock()
_looking: Thread | None = None


async def follow(session: LiveSession) -> Follower:
    """The follower of a session in this process, begun if there is none."""
    found = _followers.get(session.id)
    if found is None:
        made = await to_thread.run_sync(_made, session)
        found = _followers.setdefault(session.id, made)
    _keep(found)
    return found


def _keep(follower: Follower) -> None:
    """Have it looked after for a while, whether or not it was dropped just now."""
    global _looking
    with _turns:
        follower.unwatched = 0.0
        _followers.setdefault(follower.growing.session_id, follower)
        if _looking is None:
            _looking = Thread(target=_look_on, name="uchiwa live", daemon=True)
            _looking.start()


def _made(session: LiveSession) -> Follower:
    followed = growing.follow(session)
    followed.advance()
    made = Follower(followed)
    made.hear(_news(session.id))
    return made


@run_again
def _news(session_id: int) -> SessionNews | None:
    with connected():
        return live_sessions.news_of({session_id: live_sessions.UNKNOWN}).get(session_id)


def _look_on() -> None:
    """Look again and again, until nobody has watched anything for a while. Runs in a thread of its own."""
    number = 0
    while here := _still_watched():
        begun = time.monotonic()
        try:
            tell_all(here[session_id] for session_id in _look(here, number % _STANDING_EVERY == 0))
            number += 1
        except _NO_DATABASE as error:
            _log.warning("live sessions cannot be followed just now: %s", error)
            database.close_idle()
            time.sleep(_PAUSE_S)
        except Exception:
            _log.exception("a look at live sessions went wrong")
            time.sleep(_PAUSE_S)
        time.sleep(max(0.02, LOOK_S - (time.monotonic() - begun)))
    _let_go()


def _still_watched() -> dict[int, Follower]:
    """The followers, without those that nobody has watched for a while; when there are none, the thread may end."""
    global _looking
    with _turns:
        for session_id, follower in list(_followers.items()):
            follower.unwatched = 0.0 if follower.watchers else follower.unwatched + LOOK_S
            if follower.unwatched > _LINGERS_S:
                del _followers[session_id]
        if not _followers:
            _looking = None
        return dict(_followers)


def _look(followers: dict[int, Follower], standing_too: bool) -> list[int]:
    """Take in what is new of all of them; those of which something is."""
    if database.is_closed():
        database.connect()
    try:
        places = {follower.growing.log_id: follower for follower in followers.values()}
        found = live_passing.chunks_of_several([(log_id, place.growing.position) for log_id, place in places.items()])
        known = {session_id: follower.analysis.number for session_id, follower in followers.items()}
        news = live_sessions.news_of(known) if standing_too else None
    except _NO_DATABASE:
        _let_go()
        raise
    changed = {
        place.growing.session_id for log_id, place in places.items() if place.growing.take(found.get(log_id, ()))
    }
    if news is not None:
        changed |= {session_id for session_id, follower in followers.items() if follower.hear(news.get(session_id))}
    return list(changed)


def _let_go() -> None:
    """Give the connection back."""
    if not database.is_closed():
        database.close()
