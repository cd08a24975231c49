"""Live: a session watched while it is recorded, its correction held in by limits, the driver spoken to."""

from __future__ import annotations

from functools import partial
from typing import Annotated, Any

from fastapi import Form, HTTPException, Query, Request, WebSocket
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.rounds.progress import Station
from uchiwa.services.live import correction
from uchiwa.services.live.driven import want
from uchiwa.store import links, live_events, live_overlays, live_passing, live_sessions, messages, sessions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import LiveSession, User
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.grid import View, fuel_grid, with_heads
from uchiwa.web.live.telling import Teller
from uchiwa.web.live.watching import look_on
from uchiwa.web.pages import render, say
from uchiwa.web.requests.browser import browser_of
from uchiwa.web.requests.session import Fields, FromOurForm, current_user, person_of
from uchiwa.web.round_context import RoundPage, in_locked_round, in_open_round, in_round, job_of, round_page
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.live.grid import LiveView, cells_of
from uchiwa.web.stations.live.standin import can_drive, drive_it
from uchiwa.web.stations.live.view import ShownSession, all_cells, chosen_session, form_limits, past, values_of
from uchiwa.web.strips.view import limits_for

router = new_router()
HERE = "/jobs/{job_id}/rounds/{number}/live"
_ONE = HERE + "/{session_id}"


@router.get(HERE)
@in_round(Station.LOGS)
def live(
    page: RoundPage,
    session: int | None = None,
    show: Annotated[str, Query(max_length=2000)] = "",
    table: Annotated[str, Query(max_length=120)] = "",
    view: LiveView = LiveView.ERROR,
) -> Response:
    """The session that runs, or the last one; how to begin one, if there was none."""
    found = chosen_session(page, session)
    standin = can_drive(page.job) if getattr(page.request.app.state, "demo", False) else None
    shared: dict[str, Any] = {"page": page, "standin": standin, "link": links.current(page.job) is not None}
    if found is None:
        return render(page.request, "live_empty.html", page.user, **shared, past=past(page))
    values = values_of(page, found, ShownSession(show, table, view))
    return render(page.request, "live.html", page.user, **shared, **values)


@router.get(HERE + "/now")
@in_round(Station.LOGS)
def now(page: RoundPage) -> Response:
    """The session of this round that runs, for a page that waits for one."""
    found = chosen_session(page, None)
    return JSONResponse({"session": found.id if found is not None and found.running_id else None})


def _session(page: RoundPage, session_id: int) -> LiveSession:
    found = live_sessions.find(page.job, session_id)
    if found is None:
        raise HTTPException(404)
    return found


@router.get(_ONE + "/plan")
@in_round(Station.LOGS)
def plan(page: RoundPage, session_id: int, show: Annotated[str, Query(max_length=2000)] = "") -> Response:
    """The strips' plan anew, as after the channels were read otherwise."""
    values = values_of(page, _session(page, session_id), ShownSession(show))
    return JSONResponse(values["plan"])


@router.get(_ONE + "/cells")
@in_round(Station.LOGS)
def cells(
    page: RoundPage,
    session_id: int,
    table: Annotated[str, Query(max_length=120)] = "",
    view: LiveView = LiveView.ERROR,
) -> Response:
    """The cells of a table in a view, of a session that is over."""
    return JSONResponse(all_cells(_session(page, session_id), table, view))


@router.get(_ONE + "/messages")
@in_round(Station.LOGS)
def written(page: RoundPage, session_id: int) -> Response:
    """What was written between tuner and driver."""
    _session(page, session_id)
    return render(page.request, "_live_messages.html", page.user, page=page, messages=messages.of(page.job))


@router.post(_ONE + "/message", dependencies=[FromOurForm])
@in_locked_round(Station.LOGS)
def message(
    page: RoundPage,
    session_id: int,
    text: Annotated[str, Form(max_length=300)] = "",
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Write to the driver; it stands on the phone at once."""
    _session(page, session_id)
    messages.write(page.job, text, page.user, once)
    return render(page.request, "_live_messages.html", page.user, page=page, messages=messages.of(page.job))


@router.post(_ONE + "/limits", dependencies=[FromOurForm])
@in_locked_round(Station.LOGS)
def limits(page: RoundPage, session_id: int, form: Fields) -> Response:
    """Hold the correction in otherwise, or switch it on or off."""
    session = _session(page, session_id)
    given = {key: str(value) for key, value in form.items()}
    kept = form_limits(given, correction.limits_of(session))
    live_sessions.keep_limits(session, kept.model_dump_json())
    if session.wanted and not kept.on:
        live_overlays.set_wanted(session, wanted=False, who=live_events.TUNER, seconds=live_passing.seconds_of(session))
    return render(page.request, "_live_limits.html", page.user, page=page, session=session, limits=kept)


@router.post(_ONE + "/overlay", dependencies=[FromOurForm])
def overlay(request: Request, job_id: int, number: int, session_id: int, wanted: Annotated[bool, Form()]) -> Response:
    """Have the correction sent to the running car, or no more."""
    page = _looked_up(request, job_id, number)
    with unit_of_work():
        session = _session(page, session_id)
    if wanted and not correction.limits_of(session).on:
        raise BadInput("no correction runs", where="the overlay", advice="switch the correction on first")
    want(session.id, wanted=wanted, who=live_events.TUNER)
    return JSONResponse({"wanted": wanted})


@router.post(_ONE + "/end", dependencies=[FromOurForm])
def end(request: Request, job_id: int, number: int, session_id: int) -> Response:
    """End a session from here, as when the program at the car cannot."""
    page = _looked_up(request, job_id, number)
    with unit_of_work():
        session = _session(page, session_id)
    live_passing.end(session.id)
    return RedirectResponse(f"{page.path}/live?session={session_id}", 303)


@run_again
def _looked_up(request: Request, job_id: int, number: int) -> RoundPage:
    with unit_of_work():
        return round_page(request, current_user(request), job_id, number, Station.LOGS)


@router.get(_ONE + "/correction")
@in_round(Station.LOGS)
def corrected(page: RoundPage, session_id: int) -> Response:
    """The correction of a session that has ended, cell by cell, to be taken or cleared."""
    session = _session(page, session_id)
    values: dict[str, Any] = {"page": page, "session": session, "limits": correction.limits_of(session), "problem": ""}
    try:
        found = correction.work(page.job, page.round, session)
    except BadInput as error:
        return render(page.request, "_live_correction.html", page.user, **values | {"problem": str(error)}, work=None)
    waiting = found.to_take
    grid = with_heads(fuel_grid(found.proposal, View.DIFFERENCE, waiting), found.proposal.table)
    return render(
        page.request,
        "_live_correction.html",
        page.user,
        **values,
        work=found,
        grid=grid,
        waiting=int(waiting.sum()),
    )


@router.post(_ONE + "/take", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def take(
    page: RoundPage,
    session_id: int,
    version: Annotated[int, Form()],
    cells: Annotated[str, Form()] = "",
) -> Response:
    """Take the session's correction, or its chosen cells, into the draft."""
    session = _session(page, session_id)
    chosen: BoolArray | None = None
    if cells.strip():
        shape = correction.work(page.job, page.round, session).proposal.table.shape
        chosen = cells_mask(tuple(parse_cells(cells)), shape, default=False)
    event = correction.take(page.acting(version), session, chosen)
    say(page.request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/live?session={session_id}", 303)


@router.post(_ONE + "/clear", dependencies=[FromOurForm])
@in_open_round(Station.LOGS)
def clear(page: RoundPage, session_id: int, again: Annotated[bool, Form()] = False) -> Response:
    """Take none of the session's correction; or look at it again after all."""
    session = _session(page, session_id)
    if again:
        correction.look_again(session)
    else:
        correction.clear(session)
        say(page.request, "None of the session’s correction was taken. The log stays, and can be worked in Fuel.")
    return RedirectResponse(f"{page.path}/live?session={session_id}", 303)


@router.post(HERE + "/stand-in", dependencies=[FromOurForm])
def stand_in(
    request: Request,
    job_id: int,
    number: int,
    drive: Annotated[str, Form(max_length=40)] = "steady_cruise",
    speed: Annotated[float, Form(ge=0.5, le=20, allow_inf_nan=False)] = 1.0,
) -> Response:
    """In the demo, have the stand-in car drive and pass its samples on."""
    page = _looked_up(request, job_id, number)
    if not getattr(request.app.state, "demo", False) or can_drive(page.job) is None:
        raise HTTPException(404)
    if page.round.returned_at is not None:
        raise HTTPException(409, "This round has ended with a revision and cannot be changed any more.")
    with unit_of_work():
        lock_job(page.job.id)
        running = live_sessions.running_of(page.job)
    if running is None:
        drive_it(page.job, drive, speed, request.app.state.settings)
        say(request, "The stand-in car is starting. Its session can be watched here in a few seconds.")
    return RedirectResponse(f"{page.path}/live", 303)


@router.websocket(_ONE + "/watching")
async def watching(socket: WebSocket, job_id: int, session_id: int) -> None:
    """What is new, as it comes; the round in the address is the page’s."""
    await look_on(
        socket,
        partial(_opened, socket, job_id, session_id),
        lambda follower, user: Teller(follower, limits_for(user), _draw),
        partial(sessions.may_see, browser_of(socket.scope).token, job_id),
        deep=True,
    )


def _draw(filling: Any, view: str, found: dict[tuple[int, int], dict[str, Any]], these: Any) -> list[list[Any]]:
    known = view if view in set(LiveView) else LiveView.ERROR.value
    return cells_of(filling, LiveView(known), found, these)


@run_again
def _opened(socket: WebSocket, job_id: int, session_id: int) -> tuple[LiveSession, User] | None:
    """What is looked at, and by whom; None for somebody who may not."""
    with unit_of_work():
        user = person_of(browser_of(socket.scope))
        if user is None:
            return None
        try:
            job = job_of(user, job_id)
        except HTTPException:
            return None
        session = live_sessions.find(job, session_id)
        return None if session is None else (session, user)
