"""A person's own page: name, address, password, second factor, devices, and how they are told."""

from __future__ import annotations

from typing import Annotated

import segno
from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services import joining
from uchiwa.store import audit, mails, passkeys, passwords, people, second_factor, sessions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.store.roles import ROLES
from uchiwa.web.account.confirmation import confirm, must_be_their_password
from uchiwa.web.pages import render, say
from uchiwa.web.requests.address import within
from uchiwa.web.requests.browser import browser_of
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.routing import router as new_router

router = new_router()
_BACK = "/account"
Given = Annotated[str, Form(max_length=400)]


def _page(request: Request, user: User, *, status: int = 200, problem: str = "", at: str = "") -> Response:
    token = browser_of(request.scope).token
    with unit_of_work():
        user = people.find(user.shop_id, user.id)
        devices = [(session, sessions.is_of(session, token)) for session in sessions.of_person(user)]
        codes_left = second_factor.codes_left(user) if user.second_factor else 0
        mine = len(passkeys.of_person(user))
    return render(
        request,
        "account.html",
        user,
        status=status,
        problem=problem,
        at=at,
        devices=devices,
        codes_left=codes_left,
        passkeys=mine,
        may=ROLES[user.role],
        ways=people.BY_MAIL,
        mail=mails.enabled(),
        shortest=passwords.SHORTEST,
    )


@router.get(_BACK)
def page(request: Request, user: Person) -> Response:
    """The page."""
    return _page(request, user)


@router.post(_BACK + "/confirm", dependencies=[FromOurForm])
def confirmation(
    request: Request, user: Person, password: Given = "", back: Annotated[str, Form(max_length=500)] = _BACK
) -> Response:
    """Prove once more who one is, and go back to the page on which something was to be changed."""
    try:
        confirm(user, browser_of(request.scope).token, password)
    except BadInput as error:
        return render(request, "confirm.html", user, status=400, problem=str(error), back=within(back))
    say(request, "It is you. Nothing was changed yet: do it once more.")
    return RedirectResponse(within(back), 303)


@router.post(_BACK + "/name", dependencies=[FromOurForm])
def name(request: Request, user: Person, name: Annotated[str, Form(max_length=120)] = "") -> Response:
    """Be called something else, in reports and messages from now on."""
    try:
        with unit_of_work():
            people.rename(user, name)
    except BadInput as error:
        return _page(request, user, status=400, problem=str(error), at="name")
    say(request, "Your name is changed.")
    return RedirectResponse(_BACK, 303)


@router.post(_BACK + "/told", dependencies=[FromOurForm])
def told(request: Request, user: Person, how: Annotated[str, Form(max_length=10)] = "") -> Response:
    """Be told of jobs by mail in another way."""
    with unit_of_work():
        people.set_told_by_mail(user, how)
    say(request, f"You are told of your jobs {people.BY_MAIL[how]}.")
    return RedirectResponse(_BACK, 303)


@router.post(_BACK + "/address", dependencies=[FromOurForm])
def address(
    request: Request, user: Person, email: Annotated[str, Form(max_length=190)] = "", password: Given = ""
) -> Response:
    """Sign in with another address; the one from before is told."""
    try:
        must_be_their_password(user, password)
        with unit_of_work():
            before = user.email
            kept = people.set_address(user, email)
            if kept != before:
                joining.changed(user, "address", "Your e-mail address was changed", address=before)
    except BadInput as error:
        return _page(request, user, status=400, problem=str(error), at="address")
    say(request, f"From now on you sign in with {kept}.")
    return RedirectResponse(_BACK, 303)


@router.post(_BACK + "/password", dependencies=[FromOurForm])
def password(request: Request, user: Person, password: Given = "", new: Given = "") -> Response:
    """Have another password; every other device is signed out."""
    try:
        must_be_their_password(user, password)
        with unit_of_work():
            people.set_password(user, new, keep=browser_of(request.scope).token)
            joining.changed(user, "password", "Your password was changed")
    except BadInput as error:
        return _page(request, user, status=400, problem=str(error), at="password")
    say(request, "The new password holds. Every other device is signed out.")
    return RedirectResponse(_BACK, 303)


def _factor_page(request: Request, user: User, secret: str, *, status: int = 200, problem: str = "") -> Response:
    picture = segno.make(second_factor.address_of(secret, user.email), error="m")
    return render(
        request,
        "second_factor.html",
        user,
        status=status,
        problem=problem,
        secret=secret,
        grouped=" ".join(secret[at : at + 4] for at in range(0, len(secret), 4)),
        picture=picture.svg_data_uri(scale=5, border=2, dark="#20263A", light="#FAF7EF"),
    )


@router.get(_BACK + "/second-factor")
def factor_form(request: Request, user: Person) -> Response:
    """A new generator's secret, as a picture and in letters; nothing is asked for until a code of it was given."""
    return _factor_page(request, user, second_factor.new_secret())


@router.post(_BACK + "/second-factor", dependencies=[FromOurForm])
def factor_on(
    request: Request,
    user: Person,
    secret: Annotated[str, Form(max_length=64, pattern="[A-Z2-7]{32}")],
    code: Annotated[str, Form(max_length=20)] = "",
    password: Given = "",
) -> Response:
    """Ask for codes of this generator from now on, once it has shown one; the recovery codes are shown once."""
    try:
        must_be_their_password(user, password)
        step = second_factor.step_of(secret, code)
        if step is None:
            raise BadInput(
                "this code is not the generator's for now", advice="type the one it shows, and look at its clock"
            )
    except BadInput as error:
        return _factor_page(request, user, secret, status=400, problem=str(error))
    with unit_of_work():
        codes = second_factor.turn_on(user, secret, step)
        sessions.end_of_person(user, but=browser_of(request.scope).token)
        joining.changed(user, "factor-on", "The second factor of your account was turned on")
    return render(request, "recovery_codes.html", user, codes=codes)


@router.post(_BACK + "/second-factor/off", dependencies=[FromOurForm])
def factor_off(request: Request, user: Person, password: Given = "") -> Response:
    """Ask for the password only."""
    try:
        must_be_their_password(user, password)
    except BadInput as error:
        return _page(request, user, status=400, problem=str(error), at="factor")
    with unit_of_work():
        second_factor.turn_off(user)
        joining.changed(user, "factor-off", "The second factor of your account was turned off")
    say(request, "Signing in asks for the password only.")
    return RedirectResponse(_BACK, 303)


@router.post(_BACK + "/recovery-codes", dependencies=[FromOurForm])
def recovery_codes(request: Request, user: Person, password: Given = "") -> Response:
    """New recovery codes in place of those from before."""
    try:
        must_be_their_password(user, password)
        if not user.second_factor:
            raise BadInput("there is no second factor", advice="turn it on first")
    except BadInput as error:
        return _page(request, user, status=400, problem=str(error), at="factor")
    with unit_of_work():
        codes = second_factor.new_recovery_codes(user)
        joining.changed(user, "factor-on", "New recovery codes were made for your account")
    return render(request, "recovery_codes.html", user, codes=codes)


@router.post(_BACK + "/devices/end", dependencies=[FromOurForm])
def end_devices(request: Request, user: Person, device: Annotated[int | None, Form()] = None) -> Response:
    """Sign out on one device, or on every one but this."""
    token = browser_of(request.scope).token
    with unit_of_work():
        ended = sessions.end_of_person(user, only=device, but=token)
        audit.note("device-ended", shop_id=user.shop_id, user=user)
    say(request, f"Signed out on {ended} device{'' if ended == 1 else 's'}.")
    return RedirectResponse(_BACK, 303)
