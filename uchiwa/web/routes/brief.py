"""The Brief station: channels, drives, the customer's link, and messages."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import APIRouter, Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response
from starlette.datastructures import FormData

from uchiwa.core.brief import LAW, PURPOSES, Acceptance, Brief, DriveAsk
from uchiwa.core.car import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.progress import Station
from uchiwa.core.standard_brief import fitted
from uchiwa.store import briefs, links, messages, uploads
from uchiwa.store import jobs as store
from uchiwa.store.collected import collected
from uchiwa.store.database import unit_of_work
from uchiwa.web.coverage import squares
from uchiwa.web.pages import render, say
from uchiwa.web.session import Fields, FromOurForm, Person
from uchiwa.web.standing import RoundPage, must_be_open, round_page
from uchiwa.work import worker

router = APIRouter()
_HERE = "/jobs/{job_id}/rounds/{number}/brief"
_ORDER = {1: "must", 2: "should", 3: "nice to have"}


def _shown(page: RoundPage) -> tuple[Brief, bool]:
    """The brief that was sent, or else the standard one; and whether it was sent."""
    sent = briefs.of_round(page.round)
    return (sent, True) if sent is not None else (briefs.standard(page.job, page.round), False)


@router.get(_HERE)
def brief(request: Request, user: Person, job_id: int, number: int) -> Response:
    """The brief of a round with its checklist; the margin holds link, patterns and messages."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        shown, sent = _shown(page)
        state = collected(page.job, page.round)
        car = CarFile.loads(page.job.car.file)
        standard = briefs.standard(page.job, page.round, shown.purpose)
        values = {
            "page": page,
            "brief": shown,
            "sent": sent,
            "is_standard": shown.model_copy(update={"note": ""}) == standard,
            "car": car,
            "items": {item.ask.kind: item for item in state.items},
            "coverage": state.coverage,
            "squares": squares(state.coverage) if state.coverage is not None else [],
            "patterns": briefs.patterns(user.shop_id),
            "link": links.current(page.job),
            "messages": messages.of(page.job),
            "purposes": PURPOSES,
            "order": _ORDER,
            "law": LAW,
            "fresh_link": request.session.pop(f"link-{page.job.id}", None),
        }
    return render(request, "brief.html", user, **values)


def _keep(page: RoundPage, brief: Brief) -> list[int]:
    """Keep the brief, and have the round's logs checked against it anew; the files to import."""
    must_be_open(page)
    briefs.keep(page.round, brief)
    return uploads.read_again([log for log in store.round_logs(page.round) if log.state == uploads.READY])


def _checked_anew(ids: list[int]) -> None:
    for log_id in ids:
        worker.enqueue_import(log_id)


@router.post(_HERE, dependencies=[FromOurForm])
def send(request: Request, user: Person, form: Fields, job_id: int, number: int) -> Response:
    """Keep what was ticked, and send it: the customer's page shows it from now on."""
    asked = {str(one) for one in form.getlist("channel")}
    kinds = {str(one) for one in form.getlist("drive")}
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        shown, _ = _shown(page)
        channels = tuple(one.model_copy(update={"kept": one.quantity in asked}) for one in shown.channels)
        drives = tuple(_drive(one, form, kept=one.kind.value in kinds) for one in shown.drives)
        changed = Brief.read(
            {
                **shown.model_dump(),
                "channels": [one.model_dump() for one in channels],
                "drives": [one.model_dump() for one in drives],
                "note": str(form.get("note", ""))[:2000],
            }
        )
        ids = _keep(page, changed)
        store.moved(page.job)
        has_link = links.current(page.job) is not None
        if not has_link:
            request.session[f"link-{page.job.id}"] = _address(request, links.make(page.job))
    _checked_anew(ids)
    say(
        request,
        "The brief is on the customer's page."
        if has_link
        else "The brief is on the customer's page. Send them the link.",
    )
    return RedirectResponse(f"{page.path}/brief", 303)


def _drive(ask: DriveAsk, form: FormData, *, kept: bool) -> DriveAsk:
    """A drive with what was typed for it."""
    typed = form.get(f"{ask.kind.value}-how", ask.how)
    values = ask.acceptance.model_dump()
    for key in ("seconds", "warm", "cold_below", "throttle_most", "to_speed", "from_speed", "cell_share", "count"):
        given = str(form.get(f"{ask.kind.value}-{key}", "")).strip()
        if given:
            values[key] = given.replace(",", ".")
    return ask.model_copy(
        update={"kept": kept, "how": str(typed)[:600], "acceptance": Acceptance.model_validate(values)}
    )


def _address(request: Request, token: str) -> str:
    return f"{request.url.scheme}://{request.url.netloc}/c/{token}"


@router.post(_HERE + "/standard", dependencies=[FromOurForm])
def standard(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    purpose: Annotated[Literal["fuel", "full_load", "idle"], Form()] = "fuel",
) -> Response:
    """Back to the standard list for this car and purpose, in one step."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        ids = _keep(page, briefs.standard(page.job, page.round, purpose))
    _checked_anew(ids)
    say(request, f"This is the standard brief for {PURPOSES[purpose]}.")
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/pattern", dependencies=[FromOurForm])
def keep_pattern(
    request: Request, user: Person, job_id: int, number: int, name: Annotated[str, Form(max_length=80)] = ""
) -> Response:
    """Keep this brief under a name."""
    if not name.strip():
        raise BadInput("a pattern needs a name", advice="type one")
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        briefs.keep_pattern(user.shop_id, name, _shown(page)[0])
    say(request, f"Kept as “{name.strip()}”, to be fitted to any car.")
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/fit", dependencies=[FromOurForm])
def fit(request: Request, user: Person, job_id: int, number: int, pattern: Annotated[int, Form()]) -> Response:
    """Take a pattern, fitted to this car."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        found = briefs.pattern(user.shop_id, pattern)
        if found is None:
            raise HTTPException(404)
        table = briefs.table_under_work(page.job, page.round)
        ids = _keep(page, fitted(Brief.loads(found.document), CarFile.loads(page.job.car.file), table))
    _checked_anew(ids)
    say(request, f"“{found.name}” fitted to this car.")
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/link", dependencies=[FromOurForm])
def link(
    request: Request, user: Person, job_id: int, number: int, what: Annotated[Literal["make", "revoke"], Form()]
) -> Response:
    """Make a link in place of the one there is, or end it."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        if what == "make":
            request.session[f"link-{page.job.id}"] = _address(request, links.make(page.job))
        else:
            links.revoke(page.job)
    say(request, "A new link is made; the old one no longer works." if what == "make" else "The link no longer works.")
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/message", dependencies=[FromOurForm])
def message(user: Person, job_id: int, number: int, text: Annotated[str, Form(max_length=2000)] = "") -> Response:
    """Write to the customer."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.BRIEF)
        messages.write(page.job, text, user)
    return RedirectResponse(f"{page.path}/brief#messages", 303)
