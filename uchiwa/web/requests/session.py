"""Who is signed in, and proof that a form came from our own page."""

from __future__ import annotations

from typing import Annotated, cast

from fastapi import Depends, HTTPException, Request
from starlette.datastructures import FormData

from uchiwa.store import sessions
from uchiwa.store.models import User
from uchiwa.store.roles import OWNER
from uchiwa.web.requests.browser import Browser, browser_of
from uchiwa.web.requests.device import device_words

NOT_OUR_FORM = "This page was open too long, or the form is not ours. Reload the page and try again."


class ConfirmationNeededError(Exception):
    """Something about access is to be changed, and the person has not proved of late who they are."""


class NotSignedInError(Exception):
    """The page needs a person."""


def begin(request: Request, user: User, *, half: bool = False) -> None:
    """Sign a person in under a new name of the session, so that nobody can have known it before.

    Args:
        half: the second factor is still owed; nothing else is opened until then.
    """
    browser = browser_of(request.scope)
    sessions.end(browser.token)
    browser.become(sessions.begin(user, device_words(request.headers.get("user-agent", "")), half=half))
    if not half:
        browser.remember_device(user.email)


def half_person(request: Request) -> User | None:
    """Who has given the password just now, and owes the second factor."""
    browser = browser_of(request.scope)
    return None if browser.fresh else sessions.half_person_of(browser.token)


def end(request: Request) -> None:
    """Sign out: the session ends at the server, whoever may have its cookie."""
    browser = browser_of(request.scope)
    sessions.end(browser.token)
    browser.become(sessions.new_token())


def check_csrf(request: Request) -> None:
    """Refuses a request that was not found to carry the browser's token, before its body was read."""
    if not browser_of(request.scope).allowed:
        raise HTTPException(403, NOT_OUR_FORM)


def person_of(browser: Browser) -> User | None:
    """The person signed in, looked up once for a request."""
    if not browser.asked:
        browser.person = sessions.person_of(browser.token) if not browser.fresh else None
    return cast("User | None", browser.person)


def current_user(request: Request) -> User:
    """The person signed in.

    Raises:
        NotSignedInError: nobody is; the application answers with the sign-in page.
    """
    user = person_of(browser_of(request.scope))
    if user is None:
        raise NotSignedInError
    return user


def current_owner(request: Request) -> User:
    """The person signed in, who owns the shop.

    Raises:
        NotSignedInError: nobody is.
        HTTPException: 403 for anybody else.
    """
    user = current_user(request)
    if user.role != OWNER:
        raise HTTPException(403, "This page is the owner's: it is about people, access and the shop's settings.")
    return user


def current_operator(request: Request) -> User:
    """The person signed in, who looks after the installation, and is known by more than a password but in the demo.

    Raises:
        NotSignedInError: nobody is.
        HTTPException: 404 for anybody else, 403 without a second factor.
    """
    user = current_user(request)
    if not user.operator:
        raise HTTPException(404)
    if not getattr(request.app.state, "demo", False) and not user.second_factor:
        raise HTTPException(
            403, "This page is about the whole installation: turn on the second factor at Your account first."
        )
    return user


def must_be_confirmed(request: Request, _user: Annotated[User, Depends(current_user)]) -> None:
    """Refuses an act about access, unless the person signed in or gave their password within the last five minutes.

    Raises:
        NotSignedInError: nobody is signed in.
        ConfirmationNeededError: too long ago; the application answers with the page that asks.
    """
    if not sessions.is_confirmed(browser_of(request.scope).token):
        raise ConfirmationNeededError


async def form_of(request: Request) -> FormData:
    """The fields of a form whose names are not fixed."""
    return await request.form()


Fields = Annotated[FormData, Depends(form_of)]
Person = Annotated[User, Depends(current_user)]
Owner = Annotated[User, Depends(current_owner)]
Operator = Annotated[User, Depends(current_operator)]
FromOurForm = Depends(check_csrf)
Confirmed = Depends(must_be_confirmed)
