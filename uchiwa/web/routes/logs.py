"""The Logs station: upload, and what became of each log."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, HTTPException, Request, UploadFile
from fastapi.responses import JSONResponse, RedirectResponse, Response, StreamingResponse

from uchiwa.core.progress import Station
from uchiwa.store import jobs as store
from uchiwa.store import uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogChannel, LogFile
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.standing import must_be_open, round_page
from uchiwa.work import imports, worker

router = APIRouter()
_HERE = "/jobs/{job_id}/rounds/{number}/logs"


@router.get(_HERE)
def logs(request: Request, user: Person, job_id: int, number: int, show: int | None = None) -> Response:
    """The logs of a round; the margin shows one of them."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.LOGS)
        files = store.round_logs(page.round)
        shown = next((log for log in files if log.id == show), files[-1] if files else None)
        channels = (
            list(LogChannel.select().where(LogChannel.log == shown).order_by(LogChannel.raster, LogChannel.position))
            if shown is not None
            else []
        )
    reading = any(log.state in (uploads.STORED, uploads.IMPORTING) for log in files)
    template = "_logs_list.html" if request.headers.get("x-fragment") == "list" else "logs.html"
    return render(request, template, user, page=page, files=files, shown=shown, channels=channels, reading=reading)


@router.post(_HERE + "/upload", dependencies=[FromOurForm])
def upload(request: Request, user: Person, job_id: int, number: int, files: list[UploadFile]) -> Response:
    """Keep the raw files, then ask a worker to import them."""
    fresh: list[int] = []
    known: list[str] = []
    with unit_of_work():
        page = round_page(user, job_id, number, Station.LOGS)
        must_be_open(page)
        for file in files:
            if not file.filename:
                continue
            log, new = uploads.receive(page.job, page.round, file.filename, file.file)
            if new:
                fresh.append(log.id)
            else:
                known.append(f"{file.filename} is the same file as {log.name}, which is already here")
        store.moved(page.job)
    for log_id in fresh:
        worker.enqueue_import(log_id)
    if known:
        say(request, "; ".join(known) + ".")
    elif not fresh:
        say(request, "No file was chosen.", bad=True)
    if "x-fragment" in request.headers:
        return JSONResponse({"to": page.path + "/logs"})
    return RedirectResponse(page.path + "/logs", 303)


def _log_of(page_job: int, log_id: int) -> LogFile:
    log = LogFile.get_or_none(LogFile.id == log_id, LogFile.job == page_job)
    if log is None:
        raise HTTPException(404)
    return log


@router.post(_HERE + "/{log_id}/accept", dependencies=[FromOurForm])
def accept(user: Person, job_id: int, number: int, log_id: int, accepted: Annotated[bool, Form()]) -> Response:
    """Use a log in this round, or leave it out."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.LOGS)
        must_be_open(page)
        imports.accept(page.job, page.round, _log_of(page.job.id, log_id), accepted=accepted)
    return RedirectResponse(f"{page.path}/logs?show={log_id}", 303)


@router.get(_HERE + "/{log_id}/raw")
def raw(user: Person, job_id: int, number: int, log_id: int) -> Response:
    """The upload, byte for byte."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.LOGS)
        log = _log_of(page.job.id, log_id)
        data = list(uploads.pieces(log))
    plain = "".join(letter if letter.isalnum() or letter in "._- " else "_" for letter in log.name)
    ascii_name = plain.encode("ascii", "replace").decode().replace("?", "_")
    headers = {"content-disposition": f'attachment; filename="{ascii_name}"'}
    return StreamingResponse(iter(data), media_type="application/octet-stream", headers=headers)
