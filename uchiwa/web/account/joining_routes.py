"""Pages at secret addresses that work once: the first shop, joining one, a new password; and asking for that."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any

from fastapi import Depends, Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services import joining
from uchiwa.services.joining import Newcomer
from uchiwa.store import mails, one_time_links, roles
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.links import TooManyGuessesError, count_guess
from uchiwa.store.models import OneTimeLink, User
from uchiwa.store.one_time_links import BEGIN, JOIN, RESET, SpentLinkError
from uchiwa.store.passwords import SHORTEST
from uchiwa.web.pages import render, say
from uchiwa.web.requests import session
from uchiwa.web.requests.address import address_of
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.routing import router as new_router

router = new_router()
Password = Annotated[str, Form(max_length=400)]
_SPENT = {
    BEGIN: "This address has been used, or has ended. Start the server again: it prints a new one as long as there is no shop.",
    JOIN: "This invitation was used, withdrawn, or has ended. Ask whoever invited you for a new one.",
    RESET: "This address was used, or has ended. Ask for a new password again.",
}


def _found(request: Request, kind: str, token: str) -> OneTimeLink | None:
    """The link of a token; who tries too many tokens has to wait.

    Raises:
        HTTPException: 429 after too many.
    """
    with unit_of_work():
        link = one_time_links.find(kind, token[:100])
    if link is None:
        try:
            count_guess(address_of(request.scope))
        except TooManyGuessesError:
            raise HTTPException(429, "Too many unknown links. Wait ten minutes, then try again.") from None
    return link


def _spent(request: Request, kind: str) -> Response:
    return render(request, "error.html", status=404, title="This address does not work", text=_SPENT[kind], back="")


def _page(request: Request, template: str, status: int, problem: str | None, **values: Any) -> Response:
    answer = render(request, template, status=status, problem=problem, shortest=SHORTEST, **values)
    answer.headers["referrer-policy"] = "no-referrer"
    return answer


@router.get("/begin/{token}")
def begin_form(request: Request, token: str) -> Response:
    """The form for the first shop and its owner."""
    if _found(request, BEGIN, token) is None:
        return _spent(request, BEGIN)
    return _page(request, "begin.html", 200, None, values={"shop": "", "name": "", "email": ""})


@dataclass(frozen=True)
class FirstShop:
    """The form of the first shop and its owner."""

    shop: Annotated[str, Form(max_length=120)] = ""
    name: Annotated[str, Form(max_length=120)] = ""
    email: Annotated[str, Form(max_length=190)] = ""
    password: Password = ""


@router.post("/begin/{token}", dependencies=[FromOurForm])
def begin(request: Request, token: str, form: Annotated[FirstShop, Depends()]) -> Response:
    """Make the first shop and sign its owner in."""
    link = _found(request, BEGIN, token)
    if link is None:
        return _spent(request, BEGIN)
    try:
        with unit_of_work():
            user = joining.begin(link, form.shop, Newcomer(form.email, form.name, form.password))
    except BadInput as error:
        values = {"shop": form.shop, "name": form.name, "email": form.email}
        return _page(request, "begin.html", 400, str(error), values=values)
    except SpentLinkError:
        return _spent(request, BEGIN)
    return _welcome(request, user, "The shop is made. Take on the first car, or invite those who work with you.")


@run_again
def _welcome(request: Request, user: User, text: str) -> Response:
    session.begin(request, user)
    say(request, text)
    return RedirectResponse("/", 303)


@router.get("/join/{token}")
def join_form(request: Request, token: str) -> Response:
    """The form for an account in the shop that a link invites to."""
    link = _found(request, JOIN, token)
    if link is None or link.shop is None:
        return _spent(request, JOIN)
    return _page(request, "join.html", 200, None, link=link, may=roles.ROLES[link.role], name="")


@router.post("/join/{token}", dependencies=[FromOurForm])
def join(
    request: Request, token: str, name: Annotated[str, Form(max_length=120)] = "", password: Password = ""
) -> Response:
    """Make the account and sign in."""
    link = _found(request, JOIN, token)
    if link is None or link.shop is None:
        return _spent(request, JOIN)
    try:
        with unit_of_work():
            user = joining.join(link, name, password)
    except BadInput as error:
        return _page(request, "join.html", 400, str(error), link=link, may=roles.ROLES[link.role], name=name)
    except SpentLinkError:
        return _spent(request, JOIN)
    return _welcome(request, user, f"Welcome to {link.shop.name}.")


@router.get("/forgotten")
def forgotten_form(request: Request) -> Response:
    """The form that asks for a new password by mail."""
    return _page(request, "forgotten.html", 200, None, done=False, by_mail=mails.enabled())


@router.post("/forgotten", dependencies=[FromOurForm])
def forgotten(request: Request, email: Annotated[str, Form(max_length=190)] = "") -> Response:
    """Send the link, if somebody has this address; which of the two it was is not told."""
    with unit_of_work():
        joining.ask_for_password(email, address_of(request.scope))
    return _page(request, "forgotten.html", 200, None, done=True, by_mail=mails.enabled())


@router.get("/reset/{token}")
def reset_form(request: Request, token: str) -> Response:
    """The form for a new password."""
    link = _found(request, RESET, token)
    if link is None or link.user is None:
        return _spent(request, RESET)
    return _page(request, "reset.html", 200, None, link=link)


@router.post("/reset/{token}", dependencies=[FromOurForm])
def reset(request: Request, token: str, password: Password = "") -> Response:
    """Set the password; every device is signed out, and signing in asks for all that it asks for."""
    link = _found(request, RESET, token)
    if link is None or link.user is None:
        return _spent(request, RESET)
    try:
        with unit_of_work():
            joining.set_password_anew(link, password)
    except BadInput as error:
        return _page(request, "reset.html", 400, str(error), link=link)
    except SpentLinkError:
        return _spent(request, RESET)
    say(request, "The new password holds, and you are signed out everywhere. Sign in with it.")
    return RedirectResponse("/sign-in", 303)
