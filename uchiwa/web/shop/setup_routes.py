"""Temporary setups: settings switched for a measurement, and put back."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.cars.temporary_setups import PREPARED, Setup, read_wishes
from uchiwa.core.errors import BadInput
from uchiwa.store import calibrations, drafts, setups, shop_settings
from uchiwa.store import jobs as store
from uchiwa.store.acting import Acting
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import job_of, locked_job
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/jobs/{job_id}/setups"


@router.get(_HERE)
def setups_page(request: Request, user: Person, job_id: int) -> Response:
    """What is in force, and what could be."""
    with unit_of_work():
        job = job_of(user, job_id)
        draft = drafts.current(job)
        calibration = calibrations.content(draft.calibration)
        every = setups.of_shop(shop_settings.shop_of(user.shop_id))
        now = setups.active(job)
    names = {name for constant in calibration.constants for name in (constant.role, constant.id)}
    names |= {name for table in calibration.tables for name in (table.role, table.id)}
    rows = [(setup, [wish for wish in setup.wishes if wish.name in names]) for setup in every]
    return render(
        request,
        "setups.html",
        user,
        job=job,
        draft=draft,
        now=now,
        rows=rows,
        names=names,
        own=len(PREPARED),
        constants=calibration.constants,
    )


@router.post(_HERE + "/on", dependencies=[FromOurForm])
def switch_on(
    request: Request, user: Person, job_id: int, name: Annotated[str, Form()], version: Annotated[int, Form()]
) -> Response:
    """Switch a setup's settings in the draft."""
    with unit_of_work():
        job = locked_job(user, job_id)
        found = next(
            (setup for setup in setups.of_shop(shop_settings.shop_of(user.shop_id)) if setup.name == name), None
        )
        if found is None:
            raise BadInput(f"there is no setup “{name[:60]}”", advice="reload the page")
        setups.activate(Acting(job, store.rounds(job)[-1], user, version), found)
    say(request, f"“{name}” is in force in the draft. It is shown on every page of this job until it is put back.")
    return RedirectResponse(f"/jobs/{job_id}/setups", 303)


@router.post(_HERE + "/off", dependencies=[FromOurForm])
def put_back(request: Request, user: Person, job_id: int, version: Annotated[int, Form()]) -> Response:
    """Put everything back in one step."""
    with unit_of_work():
        job = locked_job(user, job_id)
        touched = setups.deactivate(Acting(job, store.rounds(job)[-1], user, version))
    more = f" Changed meanwhile, and put back all the same: {', '.join(touched)}." if touched else ""
    say(request, f"Everything is put back as it was.{more}")
    return RedirectResponse(f"/jobs/{job_id}/setups", 303)


@dataclass(frozen=True)
class OwnSetup:
    """The form of a setup of the shop's own."""

    name: Annotated[str, Form(max_length=60)]
    wishes: Annotated[str, Form(max_length=4000)] = ""
    drop: Annotated[bool, Form()] = False


@router.post(_HERE + "/own", dependencies=[FromOurForm])
def keep_own(request: Request, user: Person, job_id: int, form: Annotated[OwnSetup, Depends()]) -> Response:
    """Keep a setup of the shop's own, or drop it."""
    title, drop = " ".join(form.name.split()), form.drop
    with unit_of_work():
        job_of(user, job_id)
        if not title:
            raise BadInput("a setup needs a name", advice="write what it is for")
        setup = None if drop else Setup(title, "", read_wishes(form.wishes))
        setups.keep_own(user.shop_id, setup, title)
    say(request, f"“{title}” is {'dropped' if drop else 'kept'}.")
    return RedirectResponse(f"/jobs/{job_id}/setups", 303)
