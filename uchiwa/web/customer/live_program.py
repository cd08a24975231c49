"""Live sessions as a program at the car has them: begun, fed over a WebSocket or plain HTTP, gone on with, ended.

The protocol is in docs/live.md.
"""

from __future__ import annotations

import asyncio
import zlib
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import Annotated, Any

from fastapi import Header, Request, WebSocket
from fastapi.responses import JSONResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.live.batch import MOST_BYTES
from uchiwa.services.live import passing
from uchiwa.services.live.driven import driven_by, overlay_for, own_calibration
from uchiwa.store import links, live_passing, live_sessions
from uchiwa.store.database import connected, run_again, unit_of_work
from uchiwa.store.live_passing import OverError, RunningAlreadyError
from uchiwa.store.live_sessions import SessionState
from uchiwa.store.models import Job, LiveSession
from uchiwa.web.customer.opened import Opened, private
from uchiwa.web.live import followers
from uchiwa.web.live.sockets import NOT_OPEN, OVER, WebSocketDisconnect, in_thread, message_of, send
from uchiwa.web.live.telling import advice_data
from uchiwa.web.live.watching import until_the_first
from uchiwa.web.requests.links import TooManyGuessesError, open_link
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/c/{token}/live"
_MOST_AT_ONCE = 40
_MOST_LINES = 200
_LINK_EVERY_S = 1.5
BEAT_S = 0.5
_KEY_WITHIN_S = 10.0
CONFLICT, GONE = 409, 410
Bearer = Annotated[str, Header(alias="authorization", max_length=200)]


def _refusal(error: BadInput, through: int | None = None) -> Response:
    """One clear sentence: what is wrong, where, and what to do."""
    code = CONFLICT if isinstance(error, RunningAlreadyError) else GONE if isinstance(error, OverError) else 422
    answer: dict[str, Any] = {"refused": str(error)}
    if through is not None:
        answer["next"] = through + 1
    return private(JSONResponse(answer, code))


def _of_key(job: Job, session_id: int, authorization: str) -> LiveSession:
    return passing.go_on(job, session_id, authorization.removeprefix("Bearer ").strip())


async def _body(request: Request) -> bytes:
    """The body, unpacked if it came packed.

    Raises:
        BadInput: it is damaged, or far larger than a batch.
    """
    data = await request.body()
    if request.headers.get("content-encoding", "").lower() != "gzip":
        return data
    unpack = zlib.decompressobj(wbits=31)
    try:
        found = unpack.decompress(data, _MOST_LINES * MOST_BYTES // 10)
    except zlib.error as error:
        raise BadInput("it is not packed by gzip", where="the body", advice="send it as it is") from error
    if unpack.unconsumed_tail:
        raise BadInput("it unpacks to too much", where="the body", advice="send fewer batches at once")
    return found


@router.post(_HERE)
async def begin(request: Request, opened: Opened, token: str) -> Response:
    """Begin a session."""
    job, round_ = opened
    try:
        begun = await in_thread(passing.begin, job, round_, await _body(request))
    except BadInput as error:
        return _refusal(error)
    where = f"/c/{token}/live/{begun.session.id}"
    told = {"session": begun.session.id, "key": begun.key, "next": 1, "said": begun.said, "limits": passing.LIMITS}
    return private(JSONResponse({**told, "address": where}, 201))


@router.post(_HERE + "/{session_id}/batches")
async def batches(request: Request, opened: Opened, session_id: int, authorization: Bearer = "") -> Response:
    """Keep batches, one to a line; what is kept is acknowledged, and nothing else."""
    job, _ = opened
    try:
        lines = [line for line in (await _body(request)).split(b"\n") if line.strip()]
        session = await in_thread(_of_key, job, session_id, authorization)
    except BadInput as error:
        return _refusal(error)
    try:
        kept = await in_thread(passing.take, session, lines[:_MOST_LINES])
    except BadInput as error:
        return _refusal(error, await in_thread(_through, session.id))
    return private(JSONResponse({"kept": kept.through, "next": kept.through + 1}))


def _through(session_id: int) -> int:
    found = _standing(session_id)
    return 0 if found is None else found.batches


@router.get(_HERE + "/{session_id}/state")
def state(opened: Opened, session_id: int, authorization: Bearer = "") -> Response:
    """Where a program goes on after a break."""
    job, _ = opened
    try:
        with unit_of_work():
            session = live_passing.of_key(job, session_id, authorization.removeprefix("Bearer ").strip())
    except BadInput as error:
        return _refusal(error)
    running = session.running_id is not None
    return private(
        JSONResponse(
            {"kept": session.batches, "next": session.batches + 1, "running": running, "why": session.ended_why}
        )
    )


@router.post(_HERE + "/{session_id}/end")
async def end(opened: Opened, session_id: int, authorization: Bearer = "") -> Response:
    """End a session; from now on it is an ordinary log."""
    job, _ = opened
    try:
        session = await in_thread(_of_key, job, session_id, authorization)
    except BadInput as error:
        return _refusal(error)
    await in_thread(live_passing.end, session.id)
    return private(JSONResponse({"ended": True}))


@router.get(_HERE + "/{session_id}/overlay")
def overlay(opened: Opened, session_id: int, authorization: Bearer = "") -> Response:
    """The overlay that the car may drive by; number 0 for its own calibration."""
    job, _ = opened
    try:
        with unit_of_work():
            session = live_passing.of_key(job, session_id, authorization.removeprefix("Bearer ").strip())
            found = overlay_for(session)
    except BadInput as error:
        return _refusal(error)
    return private(JSONResponse(found))


@router.post(_HERE + "/{session_id}/overlay")
async def acknowledge(request: Request, opened: Opened, session_id: int, authorization: Bearer = "") -> Response:
    """The car drives by an overlay, or no longer."""
    job, _ = opened
    try:
        told = message_of((await _body(request)).decode("utf-8", "replace"))
        session = await in_thread(_of_key, job, session_id, authorization)
        await in_thread(_note_driven, session, told)
    except BadInput as error:
        return _refusal(error)
    return private(JSONResponse({"noted": True}))


def _note_driven(session: LiveSession, told: Any) -> None:
    if isinstance(told, dict) and isinstance(told.get("driven"), int):
        driven_by(session.id, told["driven"])
    elif isinstance(told, dict) and "dropped" in told:
        own_calibration(session.id, str(told["dropped"])[:60])
    else:
        raise BadInput("say what is driven, or why it was dropped", where="the message", advice="see docs/live.md")


@router.websocket(_HERE + "/{session_id}/passing")
async def passing_on(socket: WebSocket, token: str, session_id: int) -> None:
    """Batches as they are recorded, each acknowledged once it is kept."""
    await socket.accept()
    job = await in_thread(_job_of, socket, token)
    if job is None:
        await _close(socket, NOT_OPEN, "This link is not known, or was ended. Ask your tuner for a new one.")
        return
    try:
        first = message_of(await asyncio.wait_for(socket.receive_text(), _KEY_WITHIN_S))
        key = str(first.get("key", "")) if isinstance(first, dict) else ""
        session = await in_thread(passing.go_on, job, session_id, key)
    except (TimeoutError, WebSocketDisconnect, KeyError):
        await _close(socket, NOT_OPEN, "No key came.")
        return
    except BadInput as error:
        await _close(socket, OVER, str(error))
        return
    await send(socket, {"kept": session.batches, "next": session.batches + 1})
    advised = isinstance(first, dict) and bool(first.get("advice"))
    await _Passing(socket, token, session, advised=advised).serve()


def _job_of(socket: WebSocket, token: str) -> Job | None:
    try:
        found = open_link(socket.scope, token)
    except TooManyGuessesError:
        return None
    return found[0] if found is not None else None


async def _close(socket: WebSocket, code: int, said: str) -> None:
    try:
        await send(socket, {"refused": said})
        await socket.close(code)
    except (RuntimeError, WebSocketDisconnect):
        return


class _Passing:
    """One connection of a program: what comes in is kept, what it should know is sent."""

    def __init__(self, socket: WebSocket, token: str, session: LiveSession, *, advised: bool) -> None:
        self.socket, self.token, self.session, self.advised = socket, token, session, advised
        self.told = ""
        self.overlay: object = None
        self.waiting: asyncio.Queue[str | None] = asyncio.Queue(4 * _MOST_AT_ONCE)

    async def serve(self) -> None:
        """Until either side ends it."""
        tasks = [asyncio.create_task(coroutine) for coroutine in (self._receive(), self._keep(), self._tell())]
        try:
            await until_the_first(tasks)
        except Exception:
            await _close(self.socket, 1011, "Something went wrong here. What was acknowledged is kept; connect again.")
            raise

    async def _receive(self) -> None:
        while True:
            text = await self.socket.receive_text()
            if len(text) > MOST_BYTES:
                await send(self.socket, {"refused": f"A message of {len(text) // 1000} kB is too large."})
                continue
            await self.waiting.put(text)

    async def _keep(self) -> None:
        while True:
            texts = [await self.waiting.get()]
            while not self.waiting.empty() and len(texts) < _MOST_AT_ONCE:
                texts.append(self.waiting.get_nowait())
            batches: list[bytes] = []
            for text in texts:
                if text is None:
                    return
                if text.startswith('{"batch"') or '"rows"' in text[:200]:
                    batches.append(text.encode())
                    continue
                if batches:
                    await self._take(batches)
                    batches = []
                if await self._hear(text):
                    return
            if batches:
                await self._take(batches)

    async def _take(self, batches: list[bytes]) -> None:
        try:
            kept = await in_thread(passing.take, self.session, batches)
            await send(self.socket, {"kept": kept.through})
        except OverError as error:
            await _close(self.socket, OVER, str(error))
            raise WebSocketDisconnect(OVER) from None
        except BadInput as error:
            through = await in_thread(_through, self.session.id)
            await send(self.socket, {"refused": str(error), "next": through + 1})

    async def _hear(self, text: str) -> bool:
        """Another message; whether the session is over with it."""
        try:
            told = message_of(text)
            if isinstance(told, dict) and told.get("end"):
                await in_thread(live_passing.end, self.session.id)
                await send(self.socket, {"ended": True})
                await self.socket.close(1000)
                return True
            if isinstance(told, dict) and told.get("still"):
                return False
            await in_thread(_note_driven, self.session, told)
        except BadInput as error:
            await send(self.socket, {"refused": str(error)})
        return False

    async def _tell(self) -> None:
        """A sign of life twice a second, with the overlay that may be driven and, if it is wanted, what the driver is to do."""
        looked = 0.0
        async with _advising(self.session if self.advised else None) as follower:
            while True:
                found: dict[str, Any] = {"beat": live_passing.milliseconds()}
                if follower is not None:
                    async with follower.settled():
                        advice = follower.advice
                    if advice.words != self.told:
                        self.told = advice.words
                        found["advice"] = advice_data(advice)
                standing = await in_thread(_standing, self.session.id)
                mark = standing and (standing.overlay, standing.wanted, standing.allowed, standing.acknowledged)
                if standing is not None and mark != self.overlay:
                    self.overlay = mark
                    found["overlay"] = await in_thread(_overlay, self.session.id)
                await send(self.socket, found)
                looked += BEAT_S
                if looked >= _LINK_EVERY_S:
                    looked = 0.0
                    if not await in_thread(links.works, self.token):
                        await _close(
                            self.socket, NOT_OPEN, "Your tuner has ended this link. What came until now is kept."
                        )
                        return
                await asyncio.sleep(BEAT_S)


@asynccontextmanager
async def _advising(session: LiveSession | None) -> AsyncIterator[followers.Follower | None]:
    """The follower of a session whose program wants advice; it costs the more for that."""
    if session is None:
        yield None
        return
    follower = await followers.follow(session)
    leave = follower.watch(_nothing)
    try:
        yield follower
    finally:
        leave()


def _nothing() -> None:
    """A program asks by itself, twice a second."""


@run_again
def _standing(session_id: int) -> SessionState | None:
    with connected():
        return live_sessions.standing(session_id)


def _overlay(session_id: int) -> dict[str, Any]:
    with unit_of_work():
        return overlay_for(live_sessions.get(session_id))
