"""The phone's page of a live session: what to hold next, in few large words; a mark, leave for corrections, messages."""

from __future__ import annotations

from functools import partial
from typing import Annotated, Any

from fastapi import Form, HTTPException, Request, WebSocket
from fastapi.responses import JSONResponse, Response

from uchiwa.services import correspondence
from uchiwa.services.languages import words_of
from uchiwa.services.live.driven import allow
from uchiwa.services.live.marking import mark_now
from uchiwa.store import links, live_sessions, messages, people
from uchiwa.store.collected import collected
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job, LiveSession
from uchiwa.web.customer.opened import Opened, private, spoken
from uchiwa.web.live.telling import Teller
from uchiwa.web.live.watching import look_on
from uchiwa.web.pages import render
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.links import TooManyGuessesError, open_link
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/c/{token}/live"
_ONE = _HERE + "/{session_id}"


@router.get(_HERE)
def phone(request: Request, opened: Opened, token: str) -> Response:
    """The page; for its script, which session runs."""
    job, round_ = opened
    with unit_of_work():
        session = live_sessions.running_of(job)
        if is_fragment(request):
            return private(JSONResponse({"session": session.id if session is not None else None}))
        tuner = next(iter(people.concerned(job)), None)
        values: dict[str, Any] = {
            "token": token,
            "job": job,
            "session": session,
            "state": collected(job, round_),
            "tuner": tuner.name if tuner is not None else job.shop.name,
            "messages": messages.of(job),
        } | spoken(job)
    return private(render(request, "live_phone.html", **values))


def _running(job: Job, session_id: int) -> LiveSession:
    found = live_sessions.find(job, session_id)
    if found is None or found.running_id is None:
        raise HTTPException(404, "This drive is over. What was recorded is kept.")
    return found


@router.post(_ONE + "/mark", dependencies=[FromOurForm])
def mark(opened: Opened, session_id: int) -> Response:
    """Mark this moment of the drive."""
    job, _ = opened
    with unit_of_work():
        session = _running(job, session_id)
    seconds = mark_now(session)
    return private(JSONResponse({"at": round(seconds, 1)}))


@router.post(_ONE + "/allow", dependencies=[FromOurForm])
def allowed(opened: Opened, session_id: int, allowed: Annotated[bool, Form()]) -> Response:
    """Allow corrections in the running car for this session, or go back to the car's own calibration."""
    job, _ = opened
    with unit_of_work():
        session = _running(job, session_id)
    allow(session.id, allowed=allowed)
    return private(JSONResponse({"allowed": allowed}))


@router.post(_ONE + "/words", dependencies=[FromOurForm])
def words(
    request: Request,
    opened: Opened,
    session_id: int,
    text: Annotated[str, Form(max_length=300)] = "",
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Write to the tuner."""
    job, _ = opened
    with unit_of_work():
        lock_job(job.id)
        _running(job, session_id)
        correspondence.from_customer(job, text, once)
        return private(render(request, "_live_words.html", messages=messages.of(job), **spoken(job)))


@router.get(_ONE + "/words")
def written(request: Request, opened: Opened, session_id: int) -> Response:
    """What was written between driver and tuner."""
    job, _ = opened
    with unit_of_work():
        if live_sessions.find(job, session_id) is None:
            raise HTTPException(404)
        return private(render(request, "_live_words.html", messages=messages.of(job), **spoken(job)))


@router.websocket(_ONE + "/telling")
async def telling(socket: WebSocket, token: str, session_id: int) -> None:
    """What the driver is told, as it changes."""
    await look_on(
        socket,
        partial(_opened, socket, token, session_id),
        lambda follower, language: Teller(follower, (), words=words_of(language)),
        partial(links.works, token),
        deep=False,
    )


@run_again
def _opened(socket: WebSocket, token: str, session_id: int) -> tuple[LiveSession, str] | None:
    """The session and the customer’s language; None for somebody who may not."""
    try:
        found = open_link(socket.scope, token)
    except TooManyGuessesError:
        return None
    if found is None:
        return None
    with unit_of_work():
        session = live_sessions.find(found[0], session_id)
        return None if session is None else (session, str(found[0].car.customer.language))
