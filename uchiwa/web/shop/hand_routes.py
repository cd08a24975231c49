"""Who of the shop has a job in hand, their notes about it, and how its customer is reached."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services.languages import LANGUAGES
from uchiwa.services.mail.telling import tell_tuner
from uchiwa.store import customers, job_notes, jobs, people
from uchiwa.store.database import unit_of_work
from uchiwa.store.roles import READER
from uchiwa.web.pages import say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import locked_job
from uchiwa.web.routing import router as new_router

router = new_router()
_JOB = "/jobs/{job_id}"


@router.post(_JOB + "/hand", dependencies=[FromOurForm])
def hand(
    request: Request,
    user: Person,
    job_id: int,
    to: Annotated[int | None, Form()] = None,
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Hand the job to somebody, or to nobody; who gets it from another is told."""
    with unit_of_work():
        job = locked_job(user, job_id)
        other = people.find(user.shop_id, to) if to else None
        if other is not None and (other.role == READER or other.disabled_at is not None):
            raise BadInput(f"{other.name} does not work on jobs", advice="choose somebody who does")
        if (other.id if other is not None else None) != job.tuner_id:
            jobs.hand_over(job, user, other)
            if other is not None and other.id != user.id:
                tell_tuner("handed-over", job, other, f"hand:{job.id}:{once}", by=user.name)
    say(request, f"{other.name if other is not None else 'Nobody'} has this job in hand.")
    return RedirectResponse(f"/jobs/{job_id}", 303)


@router.post(_JOB + "/notes", dependencies=[FromOurForm])
def note(
    user: Person,
    job_id: int,
    text: Annotated[str, Form(max_length=8000)] = "",
    once: Annotated[str, Form(max_length=64)] = "",
) -> Response:
    """Write a note that the customer never sees."""
    with unit_of_work():
        job_notes.write(locked_job(user, job_id), user, text, once)
    return RedirectResponse(f"/jobs/{job_id}#notes", 303)


@router.post(_JOB + "/customer", dependencies=[FromOurForm])
def customer(
    request: Request,
    user: Person,
    job_id: int,
    email: Annotated[str, Form(max_length=190)] = "",
    language: Annotated[str, Form(max_length=8)] = "",
) -> Response:
    """Keep the address at which the customer is told by mail, and the language of their pages."""
    with unit_of_work():
        job = locked_job(user, job_id)
        customers.set_email(job.car.customer, email)
        if language in LANGUAGES:
            customers.set_language(job.car.customer, language)
    say(
        request, "The customer is told by mail from now on." if email.strip() else "The customer gets no mail any more."
    )
    return RedirectResponse(f"/jobs/{job_id}", 303)
