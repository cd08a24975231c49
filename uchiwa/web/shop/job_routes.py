"""A job: its car, its rounds as fans, how the error shrank; and taking on a new one."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.regions import TITLES as REGION_TITLES
from uchiwa.core.rounds.convergence import RoundResult, verdict
from uchiwa.core.rounds.progress import next_station, standings, whose_move
from uchiwa.core.tables.image.content import read_calibration
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Calibration
from uchiwa.services.mail.telling import title_of
from uchiwa.store import customers, events, images, job_notes, live_sessions, mails, people, revisions, setups
from uchiwa.store import jobs as store
from uchiwa.store.addresses import address_typed
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import address, job_of, locked_job
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.image_routes import as_text
from uchiwa.web.svg.convergence import convergence_picture

router = new_router()
_TAKEN = (store.TAKE, store.SPARK, store.IDLE, store.CLAMP)

HISTORY, _PAGE, _MAILS = 14, 100, 6
_CALIBRATION_LIMIT = 34_000_000
_LAYOUT_LIMIT = 20_000_000


def _read_base(data: bytes, name: str, layout: str) -> Calibration:
    """The calibration of a JSON file, or of an image with its layout."""
    if not layout:
        return calibration_json.loads(data, name)
    described = images.layout_from(layout)
    return read_calibration(read_image(data, name, described.base)[0], described, name)


@router.get("/jobs/new")
def new(request: Request, user: Person) -> Response:
    """The form for a new car."""
    return render(request, "job_new.html", user, values={}, problem=None)


@router.post("/jobs/new", dependencies=[FromOurForm])
def create(
    request: Request,
    user: Person,
    calibration: UploadFile,
    layout: UploadFile | None = None,
    customer: Annotated[str, Form(max_length=120)] = "",
    car: Annotated[str, Form(max_length=120)] = "",
    details: Annotated[str, Form(max_length=200)] = "",
    email: Annotated[str, Form(max_length=190)] = "",
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Take on a car. What was typed stays in the form if something is wrong; a form sent twice makes one job."""
    values = {"customer": customer, "car": car, "details": details, "email": email}
    name = calibration.filename or "calibration"
    try:
        if not customer.strip() or not car.strip():
            raise BadInput("customer and car are both needed", advice="fill them in")
        address = address_typed(email) if email.strip() else ""
        data = calibration.file.read(_CALIBRATION_LIMIT + 1)
        if not data:
            raise BadInput("there is no base calibration", advice="choose the car's calibration as a JSON file")
        if len(data) > _CALIBRATION_LIMIT:
            raise BadInput("the calibration is larger than 34 MB", where=name, advice="choose another file")
        described = layout.file.read(_LAYOUT_LIMIT) if layout is not None else b""
        text = as_text(described, (layout.filename if layout is not None else None) or "layout") if described else ""
        base = _read_base(data, name, text)
    except BadInput as error:
        return render(request, "job_new.html", user, status=400, values=values, problem=str(error))
    try:
        with unit_of_work():
            job = store.of_form(user.shop_id, once)
            if job is None:
                job = store.create(user, customer.strip(), car.strip(), details.strip(), base, once=once)
                if address:
                    customers.set_email(job.car.customer, address)
                if text:
                    images.keep(job, user, text, name, data)
    except store.SentTwiceError:
        with unit_of_work():
            job = store.of_form(user.shop_id, once)
        if job is None:
            raise
    return RedirectResponse(f"/jobs/{job.id}/rounds/1/brief", 303)


@router.get("/jobs/{job_id}")
def job(request: Request, user: Person, job_id: int) -> Response:
    """A job's page."""
    with unit_of_work():
        found = job_of(user, job_id)
        every = store.rounds(found)
        facts = store.facts_of(every)
        taken = events.history(found, kinds=_TAKEN)
        history = events.history(found, limit=HISTORY + 1)
        every_revision = revisions.of_job(found)
        notes, sent = job_notes.of_job(found), mails.of_job(found, _MAILS)
        workers = people.workers(user.shop_id)
        recording = live_sessions.running_of(found) is not None
    latest = every[-1]
    move, sentence = whose_move(facts[latest.id], closed=found.closed)
    rows: list[dict[str, Any]] = [
        {
            "round": one,
            "facts": facts[one.id],
            "standing": standings(facts[one.id]),
            "href": address(found.id, one.number, next_station(facts[one.id])),
            "done": [event for event in taken if event.round_id == one.id and not event.put_back],
        }
        for one in reversed(every)
    ]
    results = [
        RoundResult(
            row["round"].number,
            row["round"].error_percent,
            row["round"].cells or 0,
            row["round"].cells_within or 0,
            row["round"].trim_percent,
            row["round"].driven_s,
            tuple(event.sentence for event in row["done"]),
            store.regions_of(row["round"]),
        )
        for row in reversed(rows)
        if row["round"].error_percent is not None
    ]
    return render(
        request,
        "job.html",
        user,
        job=found,
        rows=rows,
        recording=recording,
        move=move,
        sentence=sentence,
        history=history[:HISTORY],
        older=history[HISTORY - 1].id if len(history) > HISTORY else None,
        revisions=every_revision,
        notes=notes,
        sent=sent,
        mail_title=title_of,
        mail=mails.enabled(),
        workers=workers,
        results=results,
        verdict=verdict(results),
        region_titles=list(REGION_TITLES.items()),
        picture=convergence_picture(results),
    )


@router.get("/jobs/{job_id}/history")
def history(request: Request, user: Person, job_id: int, before: int | None = None) -> Response:
    """All that was done to a job, newest first, a page at a time."""
    with unit_of_work():
        found = job_of(user, job_id)
        some = events.history(found, before=before, limit=_PAGE + 1)
    older = some[_PAGE - 1].id if len(some) > _PAGE else None
    return render(request, "history.html", user, job=found, history=some[:_PAGE], older=older, before=before)


@router.post("/jobs/{job_id}/close", dependencies=[FromOurForm])
def close(request: Request, user: Person, job_id: int, closed: Annotated[bool, Form()]) -> Response:
    """Lay a job to rest, or take it up again."""
    with unit_of_work():
        found = locked_job(user, job_id)
        if closed:
            setups.must_be_off(found)
        store.close(found, user, closed=closed)
    say(request, "The job is at rest. It can be taken up again at any time." if closed else "The job is open again.")
    return RedirectResponse(f"/jobs/{job_id}", 303)
