"""The customer's page: what to do now, upload, findings in plain words, messages, downloads. No account."""

from __future__ import annotations

import io
import json
from typing import Annotated, Any

from fastapi import Body, Depends, Form, HTTPException, Request, UploadFile
from fastapi.responses import JSONResponse, PlainTextResponse, RedirectResponse, Response

from uchiwa.core.briefs.brief import LAW
from uchiwa.core.briefs.checklist import Tick
from uchiwa.core.tables.image.files import image_format
from uchiwa.core.words.sentence import N_
from uchiwa.services import correspondence, upload_pieces
from uchiwa.store import (
    calibrations,
    customers,
    images,
    live_sessions,
    log_states,
    mails,
    messages,
    notes,
    people,
    revisions,
    uploads,
)
from uchiwa.store.collected import collected, drive_words
from uchiwa.store.conflict import ConflictError
from uchiwa.store.database import unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job, Revision, Round
from uchiwa.web.customer.opened import Opened, private, spoken
from uchiwa.web.customer.standin import WAYS, Performed, drive_and_write, flash_file, standin_of
from uchiwa.web.grid.coverage import squares
from uchiwa.web.pages import render, say
from uchiwa.web.report import package, report
from uchiwa.web.requests.attachment import as_file
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/c/{token}"
_LEFT = {
    1: N_("one drive to record"),
    2: N_("two drives to record"),
    3: N_("three drives to record"),
    4: N_("four drives to record"),
}


@router.get(_HERE)
def page(request: Request, opened: Opened, token: str) -> Response:
    """The page, or, for its script, the part that follows the logs."""
    job, round_ = opened
    with unit_of_work():
        state = collected(job, round_)
        tuner = next(iter(people.concerned(job)), None)
        revision = revisions.offered(job)
        withdrawn = revisions.withdrawn_last(job)
        image = images.of_revision(revision) if revision is not None else None
        values: dict[str, Any] = {
            "token": token,
            "job": job,
            "round": round_,
            "state": state,
            "tuner": tuner.name if tuner is not None else job.shop.name,
            "squares": squares(state.coverage) if state.coverage is not None else [],
            "reading": any(log.state in (log_states.STORED, log_states.IMPORTING) for log in state.logs),
            "drive_words": {log.id: drive_words(log) for log in state.logs if log.state == log_states.READY},
            "repairs": {log.id: json.loads(log.repairs) for log in state.logs},
            "revision": revision if revision is not None and revisions.is_sent(revision) else None,
            "withdrawn": withdrawn,
            "image": image,
            "messages": messages.of(job),
            "noted": notes.shown_of(job),
            "law": LAW,
            "reminded": mails.enabled() and bool(job.car.customer.email) and job.shop.remind_days > 0,
            "live": live_sessions.running_of(job),
            "standin": standin_of(job) if getattr(request.app.state, "demo", False) else None,
            "ways": WAYS,
        }
    values |= spoken(job)
    values["head"] = _head(values, round_.number)
    template = "_customer_state.html" if is_fragment(request, "state") else "customer.html"
    return private(render(request, template, **values))


def _head(values: dict[str, Any], number: int) -> str:
    """The line below the car's name: the round, what is left to record, and who asks."""
    say, state = values["_"], values["state"]
    left = sum(1 for item in state.items if item.tick is not Tick.DONE)
    if state.brief is None:
        rest = say("nothing to record yet")
    elif left == 0:
        rest = say("all recorded, thank you")
    else:
        rest = say(_LEFT[left]) if left in _LEFT else say("{count} drives to record", count=left)
    return str(say("Round {number} · {rest} · from {tuner}", number=number, rest=rest, tuner=values["tuner"]))


@router.get(_HERE + "/pieces")
def arrived(opened: Opened, file: Annotated[upload_pieces.SentFile, Depends()]) -> Response:
    """How much of a file is here already, so that sending it again goes on from there."""
    _, round_ = opened
    with unit_of_work():
        return private(JSONResponse({"received": upload_pieces.arrived(round_, file)}))


@router.post(_HERE + "/pieces", dependencies=[FromOurForm])
def piece(
    opened: Opened,
    file: Annotated[upload_pieces.SentFile, Depends()],
    start: int,
    body: Annotated[bytes, Body(media_type="application/octet-stream")] = b"",
) -> Response:
    """Keep the next piece of a file."""
    job, round_ = opened
    taken = upload_pieces.take_piece(round_, file, start, body, by_customer=True)
    return private(JSONResponse(taken.answer(spoken(job)["_"]), taken.refused or 200))


@router.post(_HERE + "/logs/upload", dependencies=[FromOurForm])
def upload(request: Request, opened: Opened, token: str, files: list[UploadFile]) -> Response:
    """Keep whole files, for browsers without script."""
    said: list[str] = []
    job, round_ = opened
    words = spoken(job)["_"]
    for file in files:
        if not file.filename:
            continue
        with unit_of_work():
            full = uploads.too_many(job)
        if full:
            said.append(words(upload_pieces.too_many()))
            break
        log, new = uploads.receive(job, round_, file.filename, file.file, by_customer=True)
        if not new:
            said.append(words(upload_pieces.same_file(file.filename, log.name)))
    if said:
        say(request, " ".join(said))
    return private(RedirectResponse(f"/c/{token}", 303))


@router.post(_HERE + "/message", dependencies=[FromOurForm])
def message(
    opened: Opened,
    token: str,
    text: Annotated[str, Form(max_length=2000)] = "",
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Write to the tuner."""
    job, _ = opened
    with unit_of_work():
        lock_job(job.id)
        correspondence.from_customer(job, text, once)
    return private(RedirectResponse(f"/c/{token}#messages", 303))


def _offered(opened: tuple[Job, Round]) -> tuple[Job, Revision]:
    """The revision the customer is to run; it counts as downloaded from now on.

    Raises:
        HTTPException: 404 if nothing was returned yet.
    """
    job, _ = opened
    revision = revisions.offered(job)
    if revision is None or not revisions.is_sent(revision):
        raise HTTPException(404)
    revisions.downloaded(revision)
    return job, revision


@router.get(_HERE + "/revision.json")
def revision(opened: Opened) -> Response:
    """The calibration that was returned last."""
    with unit_of_work():
        job, found = _offered(opened)
        name, text = package.calibration_file(job, found)
    return private(as_file(text, name, "application/json"))


@router.get(_HERE + "/image")
def image(opened: Opened) -> Response:
    """The file to be flashed, in the format in which the car's image came."""
    with unit_of_work():
        job, found = _offered(opened)
        kept = images.of_revision(found)
        if kept is None:
            raise HTTPException(404)
        data = images.file_of(kept)
        name = package.image_name(job, found, image_format(kept.format))
    return private(as_file(data, name, "application/octet-stream"))


@router.get(_HERE + "/package.zip")
def whole(opened: Opened) -> Response:
    """Everything of the return in one archive."""
    with unit_of_work():
        job, found = _offered(opened)
        kept, brief = images.of_revision(found), found.brief
    return private(
        as_file(package.package(job, found, kept, brief), f"{package.stem(job, found)}.zip", "application/zip")
    )


@router.get(_HERE + "/report.pdf")
def report_pdf(opened: Opened) -> Response:
    """The report of the revision that was returned last."""
    job, _ = opened
    with unit_of_work():
        found = revisions.offered(job)
    if found is None or not found.report:
        raise HTTPException(404)
    pages = report.as_pdf(report.title_of(job, found), found.report)
    return private(as_file(pages, f"{package.stem(job, found)}.pdf", "application/pdf"))


@router.post(_HERE + "/flashed", dependencies=[FromOurForm])
def flashed(request: Request, opened: Opened, token: str, number: Annotated[int, Form()]) -> Response:
    """The customer confirms that the revision is in the car."""
    job, _ = opened
    with unit_of_work():
        lock_job(job.id)
        found = revisions.offered(job)
        if found is None or found.number != number or not revisions.is_sent(found):
            raise ConflictError("Another revision has come meanwhile. Reload the page, and flash that one.")
        correspondence.flashed(job, found)
    say(request, spoken(job)["_"]("Thank you. Revision {number} is noted as flashed.", number=number))
    return private(RedirectResponse(f"/c/{token}", 303))


@router.post(_HERE + "/reminders", dependencies=[FromOurForm])
def reminders(request: Request, opened: Opened, token: str, off: Annotated[bool, Form()]) -> Response:
    """Have no reminders, or have them again."""
    job, _ = opened
    with unit_of_work():
        customers.set_reminders(job.car.customer, off=off)
    words = N_("You get no reminders any more.") if off else N_("You are reminded again when nothing came for a while.")
    say(request, spoken(job)["_"](words))
    return private(RedirectResponse(f"/c/{token}#reminders", 303))


@router.get(_HERE + "/channels.txt")
def channels(opened: Opened) -> Response:
    """The channels to record, as plain text to take to the logger."""
    job, round_ = opened
    with unit_of_work():
        state = collected(job, round_)
    lines = [f"{ask.title} ({ask.quantity})" for ask in state.brief.asked] if state.brief is not None else []
    return private(PlainTextResponse("\n".join(lines) + "\n"))


@router.post(_HERE + "/stand-in", dependencies=[FromOurForm])
def stand_in(
    request: Request, opened: Opened, token: str, drive: Annotated[str, Form()], way: Annotated[str, Form()] = "asked"
) -> Response:
    """In the demo, let the stand-in car perform a drive of the brief and upload its log."""
    job, round_ = opened
    with unit_of_work():
        car = standin_of(job)
        if car is None or not getattr(request.app.state, "demo", False):
            raise HTTPException(404)
        flashed = revisions.offered(job)
        if flashed is None:
            raise HTTPException(404)
        state = collected(job, round_)
        kept = images.of_revision(flashed)
        if kept is not None:
            calibration = flash_file(car, images.file_of(kept))
        else:
            calibration = calibrations.content(flashed.calibration)
        count = len(state.logs)
    wish = Performed(drive, way, 7 * job.id + count)
    name, data = drive_and_write(car, calibration, flashed.number, state.brief, wish)
    uploads.receive(job, round_, name, io.BytesIO(data), by_customer=True)
    if is_fragment(request):
        return private(JSONResponse({"done": True}))
    return private(RedirectResponse(f"/c/{token}", 303))
