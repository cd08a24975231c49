"""A person's own settings."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form
from fastapi.responses import RedirectResponse

from uchiwa.store import accounts
from uchiwa.store.database import unit_of_work
from uchiwa.web.requests.address import within
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.routing import router as new_router

router = new_router()


@router.post("/settings/theme", dependencies=[FromOurForm])
def theme(user: Person, theme: Annotated[str, Form()], back: Annotated[str, Form()] = "/") -> RedirectResponse:
    """Keep the theme and go back to where the person was."""
    with unit_of_work():
        accounts.set_theme(user, theme)
    return RedirectResponse(within(back), 303)


@router.post("/settings/units", dependencies=[FromOurForm])
def units(
    user: Person,
    back: Annotated[str, Form()] = "/",
    measures: Annotated[str, Form()] = "",
    mixture: Annotated[str, Form()] = "",
) -> RedirectResponse:
    """Keep the units a person likes to see and go back to where the person was."""
    with unit_of_work():
        accounts.set_units(user, measures or user.measures, mixture or user.mixture)
    return RedirectResponse(within(back), 303)
