"""The Brief station: channels, drives, the customer's link, and messages."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from fastapi import Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response
from starlette.datastructures import FormData

from uchiwa.core.briefs.brief import LAW, PURPOSES, Acceptance, Brief, DriveAsk, Purpose
from uchiwa.core.briefs.standard_brief import fitted
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.rounds.progress import Station
from uchiwa.core.typed_number import plain_number
from uchiwa.services import correspondence
from uchiwa.store import audit, briefs, events, import_results, links, log_states, messages
from uchiwa.store import jobs as store
from uchiwa.store.collected import collected
from uchiwa.store.conflict import ConflictError
from uchiwa.store.models import User
from uchiwa.store.three_way import mark_of
from uchiwa.web.grid.coverage import squares
from uchiwa.web.pages import render, say
from uchiwa.web.requests.browser import browser_of, cookie_name
from uchiwa.web.requests.session import Fields, FromOurForm
from uchiwa.web.round_context import (
    RoundPage,
    in_locked_round,
    in_open_round,
    in_round,
)
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/brief"
_FRESH, _FRESH_LASTS_S = "uchiwa-link", 60
_TOKEN = re.compile(r"[A-Za-z0-9_-]{20,64}")
_ORDER = {1: "must", 2: "should", 3: "nice to have"}


def _shown(page: RoundPage) -> tuple[Brief, bool]:
    """The brief that was sent, or else the standard one; and whether it was sent."""
    sent = briefs.of_round(page.round)
    return (sent, True) if sent is not None else (briefs.standard(page.job, page.round), False)


@router.get(_HERE)
@in_round(Station.BRIEF)
def brief(page: RoundPage) -> Response:
    """The brief of a round with its checklist; the margin holds link, patterns and messages."""
    shown, sent = _shown(page)
    state = collected(page.job, page.round)
    car = CarFile.loads(page.job.car.file)
    standard = briefs.standard(page.job, page.round, shown.purpose)
    values: dict[str, Any] = {
        "page": page,
        "brief": shown,
        "sent": sent,
        "seen": mark_of(page.round.brief),
        "is_standard": shown.model_copy(update={"note": ""}) == standard,
        "car": car,
        "items": {item.ask.kind: item for item in state.items},
        "coverage": state.coverage,
        "squares": squares(state.coverage) if state.coverage is not None else [],
        "patterns": briefs.patterns(page.user.shop_id),
        "link": links.current(page.job),
        "messages": messages.of(page.job),
        "purposes": PURPOSES,
        "order": _ORDER,
        "law": LAW,
        "fresh_link": _fresh_link(page.request, page.job.id),
    }
    return render(page.request, "brief.html", page.user, **values)


def _must_be_as_seen(page: RoundPage, mark: str) -> None:
    """Raises ConflictError if the brief is another than the one a form was made from."""
    if mark and mark != mark_of(page.round.brief):
        last = events.latest(page.job, events.BRIEF)
        who = f" ({last.author.name if last.author else 'Uchiwa'}: {last.sentence})" if last is not None else ""
        raise ConflictError(
            f"The brief was changed while you were at it{who}. Nothing was overwritten: reload, and look at it as it is now."
        )


def _keep(page: RoundPage, user: User, brief: Brief) -> None:
    """Keep the brief, and have the round's logs checked against it anew."""
    briefs.keep(page.round, brief)
    asked, driven = len(brief.asked), len(brief.to_drive)
    sentence = f"Sent the brief: {asked} channels, {driven} drives"
    events.record(page.job, events.BRIEF, sentence, author=user, round_=page.round)
    import_results.read_again([log for log in store.round_logs(page.round) if log.state != log_states.REFUSED])


def _fresh_link(request: Request, job_id: int) -> str | None:
    """The address of a link that has just been made, shown once."""
    browser = browser_of(request.scope)
    here = f"/jobs/{job_id}/"
    token = request.cookies.get(cookie_name(_FRESH, secure=browser.secure, path=here), "")
    if not _TOKEN.fullmatch(token):
        return None
    browser.set_cookie(_FRESH, "", 0, path=here)
    return _address(request, token)


@router.post(_HERE, dependencies=[FromOurForm])
@in_open_round(Station.BRIEF)
def send(page: RoundPage, form: Fields) -> Response:
    """Keep what was ticked, and send it: the customer's page shows it from now on."""
    asked = {str(one) for one in form.getlist("channel")}
    kinds = {str(one) for one in form.getlist("drive")}
    _must_be_as_seen(page, str(form.get("seen", "")))
    shown, _ = _shown(page)
    channels = tuple(channel.model_copy(update={"kept": channel.quantity in asked}) for channel in shown.channels)
    drives = tuple(_drive(drive, form, kept=drive.kind.value in kinds) for drive in shown.drives)
    changed = Brief.read(
        {
            **shown.model_dump(),
            "channels": [channel.model_dump() for channel in channels],
            "drives": [drive.model_dump() for drive in drives],
            "note": str(form.get("note", ""))[:2000],
        }
    )
    _keep(page, page.user, changed)
    store.moved(page.job)
    token = links.make(page.job) if links.current(page.job) is None else None
    if token is not None:
        _note(page, "link-made")
    correspondence.brief_sent(page.job, changed.model_dump_json())
    if token is not None:
        _show_once(page.request, page.job.id, token)
    say(page.request, f"The brief is on the customer's page.{'' if token is None else ' Send them the link.'}")
    return RedirectResponse(f"{page.path}/brief", 303)


def _drive(ask: DriveAsk, form: FormData, *, kept: bool) -> DriveAsk:
    """A drive with what was typed for it."""
    typed = form.get(f"{ask.kind.value}-how", ask.how)
    values = ask.acceptance.model_dump()
    for key in (
        "seconds",
        "warm",
        "cold_below",
        "until",
        "throttle_most",
        "to_speed",
        "from_speed",
        "cell_share",
        "count",
    ):
        given = str(form.get(f"{ask.kind.value}-{key}", "")).strip()
        if given:
            values[key] = plain_number(given)
    return ask.model_copy(
        update={"kept": kept, "how": str(typed)[:600], "acceptance": Acceptance.model_validate(values)}
    )


def _show_once(request: Request, job_id: int, token: str) -> None:
    """Have the next page of this browser show a link; it is kept nowhere else."""
    browser_of(request.scope).set_cookie(_FRESH, token, _FRESH_LASTS_S, path=f"/jobs/{job_id}/")


def _address(request: Request, token: str) -> str:
    """The customer's address: of the setting, never of what a request says of itself."""
    return f"{request.app.state.settings.public_address}/c/{token}"


@router.post(_HERE + "/standard", dependencies=[FromOurForm])
@in_open_round(Station.BRIEF)
def standard(
    page: RoundPage,
    purpose: Annotated[Purpose, Form()] = "fuel",
) -> Response:
    """Back to the standard list for this car and purpose, in one step."""
    _keep(page, page.user, briefs.standard(page.job, page.round, purpose))
    say(page.request, f"This is the standard brief for {PURPOSES[purpose]}.")
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/pattern", dependencies=[FromOurForm])
@in_locked_round(Station.BRIEF)
def keep_pattern(page: RoundPage, name: Annotated[str, Form(max_length=80)] = "") -> Response:
    """Keep this brief under a name."""
    if not name.strip():
        raise BadInput("a pattern needs a name", advice="type one")
    briefs.keep_pattern(page.user.shop_id, name, _shown(page)[0])
    say(page.request, f"Kept as “{name.strip()}”, to be fitted to any car.")
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/fit", dependencies=[FromOurForm])
@in_open_round(Station.BRIEF)
def fit(page: RoundPage, pattern: Annotated[int, Form()]) -> Response:
    """Take a pattern, fitted to this car."""
    found = briefs.pattern(page.user.shop_id, pattern)
    if found is None:
        raise HTTPException(404)
    table = briefs.table_under_work(page.job, page.round)
    _keep(page, page.user, fitted(Brief.loads(found.document), CarFile.loads(page.job.car.file), table))
    say(page.request, f"“{found.name}” fitted to this car.")
    return RedirectResponse(f"{page.path}/brief", 303)


def _note(page: RoundPage, kind: str) -> None:
    audit.note(kind, shop_id=page.user.shop_id, user=page.user, subject=f"job {page.job.id}")


@router.post(_HERE + "/link", dependencies=[FromOurForm])
@in_locked_round(Station.BRIEF)
def link(page: RoundPage, what: Annotated[Literal["make", "revoke"], Form()]) -> Response:
    """Make a link in place of the one there is, or end it."""
    renewed = links.current(page.job) is not None
    token = links.make(page.job) if what == "make" else None
    if token is None:
        links.revoke(page.job)
        _note(page, "link-ended")
    else:
        _note(page, "link-renewed" if renewed else "link-made")
    if token is not None:
        _show_once(page.request, page.job.id, token)
    say(
        page.request,
        "A new link is made; the old one no longer works." if what == "make" else "The link no longer works.",
    )
    return RedirectResponse(f"{page.path}/brief", 303)


@router.post(_HERE + "/message", dependencies=[FromOurForm])
@in_locked_round(Station.BRIEF)
def message(
    page: RoundPage,
    text: Annotated[str, Form(max_length=2000)] = "",
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Write to the customer."""
    correspondence.to_customer(page.job, text, page.user, once)
    return RedirectResponse(f"{page.path}/brief#messages", 303)
