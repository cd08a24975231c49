"""A person's tokens for programs: made, told once, revoked."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services import joining
from uchiwa.store import api_tokens
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import Confirmed, FromOurForm, Person
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/account/tokens"


def _page(request: Request, user: User, *, made: str = "", problem: str = "", name: str = "") -> Response:
    with unit_of_work():
        found = api_tokens.of_person(user)
    return render(
        request, "tokens.html", user, status=400 if problem else 200, tokens=found, made=made, problem=problem, name=name,
        scopes=api_tokens.SCOPES, lasts=api_tokens.LASTS,
    )  # fmt: skip


@router.get(_HERE)
def page(request: Request, user: Person) -> Response:
    """Those that there are."""
    return _page(request, user)


@router.post(_HERE, dependencies=[FromOurForm, Confirmed])
def make(
    request: Request,
    user: Person,
    name: Annotated[str, Form(max_length=80)] = "",
    scope: Annotated[list[str] | None, Form(max_length=10)] = None,
    days: Annotated[int, Form()] = 90,
) -> Response:
    """Make one. It stands on the page that answers, and nowhere else."""
    try:
        with unit_of_work():
            made = api_tokens.make(user, name, scope or [], days)
            joining.tell_of(user, "token-made", f"A token for a program was made: {' '.join(name.split())[:80]}")
    except BadInput as error:
        return _page(request, user, problem=str(error), name=name)
    return _page(request, user, made=made)


@router.post(_HERE + "/{token_id}/revoke", dependencies=[FromOurForm])
def revoke(request: Request, user: Person, token_id: int) -> Response:
    """Revoke one: whatever uses it is refused from now on."""
    with unit_of_work():
        found = api_tokens.revoke(user, token_id)
    say(request, f"The token for {found.name} is revoked." if found is not None else "This token was revoked already.")
    return RedirectResponse(_HERE, 303)
