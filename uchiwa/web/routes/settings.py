"""A person's own settings."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form
from fastapi.responses import RedirectResponse

from uchiwa.store import accounts
from uchiwa.store.database import unit_of_work
from uchiwa.web.session import FromOurForm, Person

router = APIRouter()


@router.post("/settings/theme", dependencies=[FromOurForm])
def theme(user: Person, theme: Annotated[str, Form()], back: Annotated[str, Form()] = "/") -> RedirectResponse:
    """Keep the theme and go back to where the person was."""
    with unit_of_work():
        accounts.set_theme(user, theme)
    here = back.startswith("/") and not back.startswith(("//", "/\\"))
    return RedirectResponse(back if here else "/", 303)
