"""Sessions that somebody watches: told when rows come, dropped when nobody watches, gone on with when the database is away."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Iterator
from dataclasses import replace

import pytest

from tests.services.live.driving import begun, driven
from tests.store.conftest import Scene, scene  # noqa: F401
from uchiwa.core.live.limits import LiveLimits
from uchiwa.services.live import growing, passing, watch_over
from uchiwa.services.live.analysis import Analysis
from uchiwa.store import briefs, live_passing, live_sessions
from uchiwa.store.database import unit_of_work
from uchiwa.web.live import followers
from uchiwa.web.live.followers import follow
from uchiwa.web.live.telling import SentSoFar, Teller, WatcherRequest

WITHIN_S = 10.0


@pytest.fixture(autouse=True)
def quickly(monkeypatch) -> Iterator[None]:
    """Looks every few hundredths of a second, and nobody lingers."""
    monkeypatch.setattr(followers, "LOOK_S", 0.03)
    monkeypatch.setattr(followers, "_LINGERS_S", 0.1)
    monkeypatch.setattr(followers, "_PAUSE_S", 0.02)
    yield
    for follower in list(followers._followers.values()):
        follower.watchers.clear()  # of a test that failed: its looks would be counted in the next
    until = time.monotonic() + WITHIN_S
    while followers._looking is not None and time.monotonic() < until:
        time.sleep(0.02)
    growing.forget()


@pytest.fixture
def session(scene: Scene):  # noqa: F811
    """One that has three batches, and those that are to come."""
    drive, batches = driven(8, each=20)
    found, _ = begun(scene, drive)
    passing.take(found, batches[:3])
    return found, batches[3:]


async def until(true) -> None:
    """Wait until something is so."""
    async with asyncio.timeout(WITHIN_S):
        while not true():
            await asyncio.sleep(0.01)


def test_whoever_watches_is_told_of_rows_in_the_loop_they_watch_in(session):
    found, more = session

    async def watch() -> None:
        follower = await follow(found)
        assert follower.growing.growth.size == 60
        here, told = asyncio.get_running_loop(), []
        leave = follower.watch(lambda: told.append(asyncio.get_running_loop() is here))
        await asyncio.to_thread(passing.take, found, more[:1])
        await until(lambda: follower.growing.growth.size == 80 and told)
        assert all(told)
        leave()
        assert follower.watchers == []

    asyncio.run(watch())


def test_all_who_watch_a_session_share_what_follows_it(session):
    found, more = session

    async def watch() -> None:
        one, other = await asyncio.gather(follow(found), follow(found))
        assert one is other
        told: list[str] = []
        leaves = [one.watch(lambda: told.append("first")), one.watch(lambda: told.append("second"))]
        await asyncio.to_thread(passing.take, found, more[:1])
        await until(lambda: {"first", "second"} <= set(told))
        for leave in leaves:
            leave()

    asyncio.run(watch())


def test_what_nobody_watches_is_dropped_and_begun_anew_when_asked_for(session):
    found, more = session

    async def unwatched() -> None:
        await follow(found)
        await until(lambda: followers._looking is None and not followers._followers)
        await asyncio.to_thread(passing.take, found, more[:1])
        assert (await follow(found)).growing.growth.size == 80

    asyncio.run(unwatched())


def test_a_watcher_whose_loop_has_closed_stops_nobody(session):
    found, more = session

    async def leaves_without_a_word() -> None:
        (await follow(found)).watch(lambda: None)

    asyncio.run(leaves_without_a_word())

    async def watch() -> None:
        follower, told = await follow(found), []
        leave = follower.watch(lambda: told.append(1))
        await asyncio.to_thread(passing.take, found, more[:1])
        await until(lambda: told)
        leave()
        follower.watchers.clear()

    asyncio.run(watch())


def test_looks_go_on_after_the_database_was_away(session, monkeypatch):
    found, more = session
    fails = [OSError("gone"), ValueError("something nobody thought of")]
    really = live_passing.chunks_of_several

    def sometimes(*args):
        if fails:
            raise fails.pop()
        return really(*args)

    monkeypatch.setattr(live_passing, "chunks_of_several", sometimes)

    async def watch() -> None:
        follower = await follow(found)
        leave = follower.watch(lambda: None)
        await asyncio.to_thread(passing.take, found, more[:1])
        await until(lambda: follower.growing.growth.size == 80)
        assert fails == []
        leave()

    asyncio.run(watch())


def test_what_is_told_is_of_one_moment_and_waiting_for_it_holds_up_nobody(session):
    found, _ = session

    async def watch() -> None:
        follower, entered = await follow(found), []

        async def read() -> None:
            async with follower.settled():
                entered.append(follower.growing.lock.locked())

        follower.growing.lock.acquire()
        reading = asyncio.create_task(read())
        for _ in range(5):
            await asyncio.sleep(0.01)  # the loop goes on
        assert entered == []
        follower.growing.lock.release()
        await asyncio.wait_for(reading, WITHIN_S)
        assert entered == [True]

    asyncio.run(watch())


def test_advice_is_worked_out_while_rows_come_without_end(scene: Scene):  # noqa: F811
    drive, batches = driven(30, each=3)
    found, _ = begun(scene, drive)
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
    passing.take(found, batches[:40])

    async def watch() -> None:
        follower = await follow(found)
        lines = [(number, line) for number, line in enumerate(batches[40:], start=41)]

        def feed() -> None:
            for one in lines:
                follower.growing.take([one])
                time.sleep(0.001)

        feeding = asyncio.create_task(asyncio.to_thread(feed))
        told = 0
        while not feeding.done():
            async with follower.settled():
                follower._advised_at = 0.0
                told += bool(follower.advice.words)
            await asyncio.sleep(0)
        await feeding
        assert told > 2
        assert follower.growing.growth.size == 3 * len(batches)

    asyncio.run(watch())


def test_how_a_session_stands_follows_and_a_session_that_goes_is_told(session):
    found, _ = session

    async def watch() -> None:
        follower = await follow(found)
        leave = follower.watch(lambda: None)
        assert follower.standing is not None
        assert follower.standing.running
        await asyncio.to_thread(live_passing.end, found.id)
        await until(lambda: follower.standing is not None and not follower.standing.running)
        assert follower.standing.ended_why == "ended"

        def erase() -> None:
            with unit_of_work():
                live_sessions.get(found.id).log.delete_instance(recursive=True)

        await asyncio.to_thread(erase)
        await until(lambda: follower.standing is None)
        leave()

    asyncio.run(watch())


def test_what_the_worker_finds_and_limits_that_change_are_heard_once(session, monkeypatch):
    found, _ = session
    read: list[tuple[int, int]] = []
    really = Analysis.read

    def counted(number, *documents):
        read.append(number)
        return really(number, *documents)

    monkeypatch.setattr(Analysis, "read", counted)

    async def watch() -> None:
        follower = await follow(found)
        leave = follower.watch(lambda: None)
        assert (follower.analysis.number, follower.analysis.parts) == ((0, 0), {})
        await asyncio.to_thread(watch_over.keep, found.id, {"findings": [], "drives": [1], "seconds": 2.0})
        await until(lambda: follower.analysis.number == (1, 0))
        assert follower.analysis.parts == {"findings": [], "drives": [1], "correction": None}
        limits = LiveLimits(on=True, percent=7.0)

        def change() -> None:
            with unit_of_work():
                live_sessions.keep_limits(found, limits.model_dump_json())

        await asyncio.to_thread(change)
        await until(lambda: follower.analysis.number == (1, 1))
        assert (follower.analysis.limits, follower.analysis.parts["drives"]) == (limits, [1])
        await asyncio.to_thread(live_passing.end, found.id)  # the session stands otherwise, and nothing was found
        await until(lambda: follower.standing is not None and not follower.standing.running)
        leave()

    asyncio.run(watch())
    assert read == [(0, 0), (1, 0), (1, 1)]


def alone(follower: followers.Follower, wish: WatcherRequest, told: SentSoFar) -> dict:
    """What one is told who watches alone and has been told the same."""
    teller = Teller(followers.Follower(follower.growing), (), cells)
    teller.wish, teller.told = wish, told
    return teller.news()


def cells(filling, view, _, these) -> list[list]:
    """Cells that have changed, as a page might draw them."""
    drawn_for.append(view)
    return [[int(j), int(i), view] for j, i in zip(*these.nonzero(), strict=True)]


drawn_for: list[str] = []


def test_what_is_told_to_several_is_worked_out_once_and_is_what_each_would_be_told_alone(session):
    found, more = session

    async def watch() -> None:
        follower = await follow(found)
        table = follower.growing.context.table.id
        wishes = (
            WatcherRequest(("engine_speed", "manifold_pressure"), table, "seconds"),
            WatcherRequest(("manifold_pressure", "lambda_measured", "engine_speed"), table, "seconds"),
            WatcherRequest(("throttle_position",), table, "error"),
            WatcherRequest(("manifold_pressure",)),
        )
        tellers = [Teller(follower, (), cells) for _ in wishes]
        for teller, wish in zip(tellers, wishes, strict=True):
            teller.wish = wish
            teller.news()
        leave = follower.watch(lambda: None)
        for batch in more[:3]:
            before, rows = [replace(one.told) for one in tellers], follower.growing.growth.size
            await asyncio.to_thread(passing.take, found, [batch])
            await until(lambda rows=rows: follower.growing.growth.size > rows)
            async with follower.settled():
                drawn_for.clear()
                told = [one.news() for one in tellers]
                assert drawn_for == ["seconds", "error"]
                for news, wish, of in zip(told, wishes, before, strict=True):
                    assert news["t"]
                    assert list(news["v"]) == list(wish.keys)
                    assert news == alone(follower, wish, of)
        assert told[0]["v"]["engine_speed"] is told[1]["v"]["engine_speed"]
        assert told[0]["at"] == told[2]["at"]
        assert "at" not in told[3]
        leave()

    asyncio.run(watch())
