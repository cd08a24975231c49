"""Who is signed in, and proof that a form came from our own page."""

from __future__ import annotations

import secrets
from typing import Annotated

from fastapi import Depends, HTTPException, Request
from starlette.datastructures import FormData

from uchiwa.store import accounts
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User

_PERSON, _CSRF = "person", "csrf"


class NotSignedInError(Exception):
    """The page needs a person."""


def begin(request: Request, user: User) -> None:
    """Sign a person in; what the session held before is dropped."""
    request.session.clear()
    request.session[_PERSON] = user.id


def end(request: Request) -> None:
    """Sign out."""
    request.session.clear()


def csrf_token(request: Request) -> str:
    """The session's token, made when first asked for."""
    token = request.session.get(_CSRF)
    if not token:
        token = request.session[_CSRF] = secrets.token_urlsafe(24)
    return str(token)


async def check_csrf(request: Request) -> None:
    """Refuses a request that does not carry the session's token in its form or header."""
    given = request.headers.get("x-csrf")
    if given is None:
        form = await request.form()
        value = form.get("csrf", "")
        given = value if isinstance(value, str) else ""
    wanted = str(request.session.get(_CSRF, ""))
    if not wanted or not secrets.compare_digest(given.encode(), wanted.encode()):
        raise HTTPException(403, "This page was open too long, or the form is not ours. Reload the page and try again.")


def current_user(request: Request) -> User:
    """The person signed in.

    Raises:
        NotSignedInError: nobody is; the application answers with the sign-in page.
    """
    user_id = request.session.get(_PERSON)
    with unit_of_work():
        user = accounts.person(int(user_id)) if user_id else None
    if user is None:
        raise NotSignedInError
    return user


async def form_of(request: Request) -> FormData:
    """The fields of a form whose names are not fixed."""
    return await request.form()


Fields = Annotated[FormData, Depends(form_of)]
Person = Annotated[User, Depends(current_user)]
FromOurForm = Depends(check_csrf)
