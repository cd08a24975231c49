"""Passkeys: added and removed on a person's own page, and used in place of password and code."""

from __future__ import annotations

from datetime import timedelta
from typing import Annotated, Any

from fastapi import Form, HTTPException, Request
from fastapi.responses import JSONResponse, RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services import joining
from uchiwa.services import passkeys as service
from uchiwa.services.passkeys import Site
from uchiwa.store import attempts, audit, passkeys
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import User
from uchiwa.web.account.confirmation import must_be_their_password
from uchiwa.web.pages import render, say
from uchiwa.web.requests import session
from uchiwa.web.requests.address import address_of
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/account/passkeys"
_TRIES, _WINDOW = 30, timedelta(minutes=10)
"""So many passkeys can be tried from a network address in that time."""
Given = Annotated[str, Form(max_length=400)]
Answer = Annotated[str, Form(max_length=20_000)]


def site_for(request: Request) -> Site | None:
    """The site of passkeys, if this page was opened under its address."""
    site = service.site_of(request.app.state.settings)
    return site if site is not None and request.url.hostname == site.host else None


def _site(request: Request) -> Site:
    site = site_for(request)
    if site is None:
        raise HTTPException(404)
    return site


def _page(request: Request, user: User, problem: str = "") -> Response:
    with unit_of_work():
        mine = passkeys.of_person(user)
    usual = service.site_of(request.app.state.settings)
    return render(
        request,
        "passkeys.html",
        user,
        status=400 if problem else 200,
        problem=problem,
        passkeys=mine,
        possible=site_for(request) is not None,
        elsewhere=usual.origin if usual is not None else "",
        most=passkeys.MOST,
    )


@router.get(_HERE)
def page(request: Request, user: Person) -> Response:
    """A person's passkeys."""
    return _page(request, user)


@router.post(_HERE + "/options", dependencies=[FromOurForm])
def options(request: Request, user: Person, password: Given = "") -> Response:
    """What the browser is asked for a new passkey."""
    site = _site(request)
    must_be_their_password(user, password)
    with unit_of_work():
        asked, state = service.begin_making(site, user)
    return JSONResponse({"options": asked, "state": state})


@router.post(_HERE, dependencies=[FromOurForm])
def add(
    request: Request,
    user: Person,
    state: Answer = "",
    answer: Answer = "",
    name: Annotated[str, Form(max_length=80)] = "",
) -> Response:
    """Keep the passkey that the browser has made."""
    site = _site(request)
    try:
        with unit_of_work():
            kept = service.finish_making(site, user, state, answer, name)
            joining.changed(user, "passkey-on", f"A passkey was added to your account: {kept.name}")
    except BadInput as error:
        return _page(request, user, str(error))
    say(request, f"“{kept.name}” signs you in from now on.")
    return RedirectResponse(_HERE, 303)


@router.post(_HERE + "/remove", dependencies=[FromOurForm])
def remove(request: Request, user: Person, passkey: Annotated[int, Form()], password: Given = "") -> Response:
    """Take a passkey away."""
    try:
        must_be_their_password(user, password)
    except BadInput as error:
        return _page(request, user, str(error))
    with unit_of_work():
        passkeys.remove(user, passkey)
        joining.changed(user, "passkey-off", "A passkey was removed from your account")
    say(request, "The passkey opens nothing any more.")
    return RedirectResponse(_HERE, 303)


@router.post("/sign-in/passkey/options", dependencies=[FromOurForm])
def sign_in_options(request: Request) -> Response:
    """What the browser is asked of whoever signs in."""
    asked, state = service.begin_signing_in(_site(request))
    return JSONResponse({"options": asked, "state": state})


@router.post("/sign-in/passkey", dependencies=[FromOurForm])
def sign_in(request: Request, state: Answer = "", answer: Answer = "") -> Response:
    """Begin a session for the person whose passkey has signed."""
    site = _site(request)
    credential = service.read_answer(answer)
    mark = attempts.mark("passkey", address_of(request.scope))
    if attempts.count(mark, _WINDOW) > _TRIES:
        problem = "Too many tries. Wait ten minutes, then try again."
        return render(request, "sign_in.html", status=429, email="", problem=problem, nobody=False, passkeys=True)
    try:
        user = _signed_in(site, state, credential)
    except BadInput as error:
        return render(request, "sign_in.html", status=401, email="", problem=str(error), nobody=False, passkeys=True)
    attempts.uncount(mark)
    session.begin(request, user)
    return RedirectResponse("/", 303)


@run_again
def _signed_in(site: Site, state: str, credential: dict[str, Any]) -> User:
    with unit_of_work():
        user = service.finish_signing_in(site, state, credential)
        audit.note("signed-in", shop_id=user.shop_id, user=user, subject="with a passkey")
        return user
