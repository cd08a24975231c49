"""A job: its car, its rounds as fans, how the error shrank; and taking on a new one."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.cars.sensors import PRESSURE_LINES
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.regions import TITLES as REGION_TITLES
from uchiwa.core.rounds.convergence import RoundResult, verdict
from uchiwa.core.rounds.progress import next_station, standings, whose_move
from uchiwa.core.shelf.carrying import Changes
from uchiwa.core.shelf.contents import ShelfKind
from uchiwa.core.typed_number import typed_number
from uchiwa.core.whole_number import whole_number
from uchiwa.services.languages import LANGUAGES
from uchiwa.services.mail.telling import title_of
from uchiwa.services.taking_on import CarOffered, start_of, take_on
from uchiwa.store import events, job_notes, live_sessions, mails, people, revisions, setups, shelf
from uchiwa.store import jobs as store
from uchiwa.store.addresses import address_typed
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.pages import render, say
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.sent_file import sent_file
from uchiwa.web.requests.session import Fields, FromOurForm, Person
from uchiwa.web.round_context import address, job_of, locked_job
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.shelf_routes import outcome_words
from uchiwa.web.svg.convergence import convergence_picture

router = new_router()
_TAKEN = (store.TAKE, store.SPARK, store.IDLE, store.CLAMP)

HISTORY, _PAGE, _MAILS = 14, 100, 6
_CALIBRATION_LIMIT = 34_000_000
_LAYOUT_LIMIT = 20_000_000
_NUMBERS = {
    "displacement": "displacement", "injector_flow": "injector flow", "injector_dead_time": "injector dead time",
    "stoichiometric_ratio": "stoichiometric ratio", "spark_down": "spark down",
}  # fmt: skip


def _typed(form: Mapping[str, Any]) -> dict[str, str]:
    return {key: str(value)[:400] for key, value in form.items() if isinstance(value, str)}


def _changes(typed: Mapping[str, str]) -> Changes:
    """What is different from the car that the map is of, as it was typed.

    Raises:
        BadInput: something is no number, or out of its range.
    """
    told: dict[str, Any] = {key: typed.get(key, "").strip() for key in ("spark_why", "pressure_sensor")}
    for key in _NUMBERS:
        written = typed.get(key, "").strip()
        if written:
            told[key] = typed_number(written, where=_NUMBERS[key])
    return Changes.read(told, "the changes")


def _offered(typed: Mapping[str, str], file: tuple[bytes, str], layout: tuple[bytes, str]) -> CarOffered:
    email = typed.get("email", "").strip()
    return CarOffered(
        typed.get("customer", "")[:120], typed.get("car", "")[:120], typed.get("details", "")[:200],
        address_typed(email) if email else "", whole_number(typed.get("start", "")), whole_number(typed.get("car_file", "")),
        *file, *layout, _changes(typed), typed.get("once", "")[:64], typed.get("language", ""),
    )  # fmt: skip


def new_page(request: Request, user: User, typed: Mapping[str, str], problem: str = "") -> Response:
    """The page on which a car is taken on, with what was typed and what is wrong with it."""
    with unit_of_work():
        maps, cars = (shelf.of_shop(user.shop_id, (one,)) for one in (ShelfKind.CALIBRATION, ShelfKind.CAR))
        layouts = shelf.of_shop(user.shop_id, (ShelfKind.LAYOUT,))
        look = _look(user, typed)
    return render(
        request, "job_new.html", user, status=400 if problem else 200, values=typed, problem=problem, maps=maps, cars=cars,
        layouts=layouts, outcome_words=outcome_words, sensors=PRESSURE_LINES.values(), languages=LANGUAGES, **look,
    )  # fmt: skip


def _look(user: User, typed: Mapping[str, str]) -> dict[str, Any]:
    """What the car would start with by the map of the shelf, for the margin: without files, which come with the form."""
    entry_id = whole_number(typed.get("start", ""))
    entry = shelf.find(user.shop_id, entry_id, ShelfKind.CALIBRATION) if entry_id is not None else None
    if entry is None:
        return {"entry": None, "start": None, "look_problem": ""}
    try:
        start = start_of(user, _offered(dict(typed) | {"email": ""}, (b"", ""), (b"", "")))
    except BadInput as error:
        return {"entry": entry, "start": None, "look_problem": str(error)}
    return {"entry": entry, "start": start, "look_problem": ""}


@router.get("/jobs/new")
def new(request: Request, user: Person) -> Response:
    """The road for a new car; as a fragment, what it would start with."""
    typed = _typed(request.query_params)
    if is_fragment(request):
        with unit_of_work():
            look = _look(user, typed)
        return render(request, "_job_start.html", user, outcome_words=outcome_words, **look)
    return new_page(request, user, typed)


@router.post("/jobs/new", dependencies=[FromOurForm])
def create(request: Request, user: Person, form: Fields) -> Response:
    """Take on a car. What was typed stays in the form if something is wrong; a form sent twice makes one job."""
    typed = _typed(form)
    try:
        file, layout = sent_file(form, "calibration", _CALIBRATION_LIMIT), sent_file(form, "layout", _LAYOUT_LIMIT)
        job = take_on(user, _offered(typed, file, layout))
    except BadInput as error:
        return new_page(request, user, typed, str(error))
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
            "round": round_,
            "facts": facts[round_.id],
            "standing": standings(facts[round_.id]),
            "href": address(found.id, round_.number, next_station(facts[round_.id])),
            "done": [event for event in taken if event.round_id == round_.id and not event.put_back],
        }
        for round_ in reversed(every)
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
        languages=LANGUAGES,
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
