"""Notes on moments and stretches of a log, written while reading it."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Depends, Form, HTTPException
from fastapi.responses import JSONResponse, Response

from uchiwa.core.rounds.progress import Station
from uchiwa.store import notes, ready_logs
from uchiwa.store.models import LogFile
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.strips.view import note_data

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/read/notes/{log_id}"
Moment = Annotated[float, Form(allow_inf_nan=False)]


def _log(page: RoundPage, log_id: int) -> LogFile:
    log = ready_logs.chosen(page.job, [log_id]).get(log_id)
    if log is None:
        raise HTTPException(404)
    return log


def _list(log: LogFile) -> Response:
    return JSONResponse([note_data(note) for note in notes.of_logs([log.id])])


def _span(start: Moment, end: Moment) -> tuple[float, float]:
    return start, end


@router.post(_HERE, dependencies=[FromOurForm])
@in_round(Station.LOGS)
def write(
    page: RoundPage,
    log_id: int,
    span: Annotated[tuple[float, float], Depends(_span)],
    text: Annotated[str, Form(max_length=4000)] = "",
    shown: Annotated[bool, Form()] = False,
) -> Response:
    """Note something on a moment or stretch; the log's notes, the new one among them."""
    log = _log(page, log_id)
    notes.write(log, page.user, span, text, shown=shown)
    return _list(log)


@router.post(_HERE + "/{note_id}", dependencies=[FromOurForm])
@in_round(Station.LOGS)
def change(
    page: RoundPage, log_id: int, note_id: int, do: Annotated[Literal["show", "hide", "drop"], Form()]
) -> Response:
    """Show a note to the customer, or no longer, or take it away; the notes that are left."""
    log = _log(page, log_id)
    note = notes.find([log.id], note_id)
    if note is None:
        raise HTTPException(404)
    if do == "drop":
        notes.drop(note)
    else:
        notes.show(note, shown=do == "show")
    return _list(log)
