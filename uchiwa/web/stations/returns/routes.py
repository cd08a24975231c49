"""The Return station: freeze the draft, hand it out, see what became of it, and withdraw it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.rounds.progress import Station
from uchiwa.core.tables.image.files import FORMATS, ImageFormat
from uchiwa.services import freezing as work
from uchiwa.services.review import review_work
from uchiwa.store import images, revisions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, Revision, User
from uchiwa.web.account.display_units import display_of
from uchiwa.web.pages import render, say
from uchiwa.web.report import package, report
from uchiwa.web.requests.attachment import as_file
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import (
    RoundPage,
    in_locked_round,
    in_open_round,
    in_round,
    job_of,
)
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/jobs/{job_id}/rounds/{number}/return"
_REVISION = "/jobs/{job_id}/revisions/{number}"
NOTES_LIMIT = 4000


@router.get(_HERE)
@in_round(Station.RETURN)
def form(page: RoundPage) -> Response:
    """The form to freeze, or what was frozen."""
    every_revision = revisions.of_job(page.job)
    frozen = (
        next((revision for revision in every_revision if revision.number == page.round.number), None)
        if page.round.returned_at
        else None
    )
    review = review_work(page.job, page.round) if frozen is None else None
    image = images.of_revision(frozen) if frozen is not None else images.of_job(page.job)
    offered = revisions.offered(page.job)
    inputs = work.inputs_of(page.job, frozen) if frozen is not None else {}
    return render(
        page.request,
        "return.html",
        page.user,
        page=page,
        revisions=every_revision,
        frozen=frozen,
        review=review,
        image=image,
        formats=FORMATS,
        offered=offered,
        inputs=inputs,
    )


@router.post(_HERE, dependencies=[FromOurForm])
@in_open_round(Station.RETURN)
def freeze(
    page: RoundPage,
    version: Annotated[int, Form()],
    notes: Annotated[str, Form(max_length=NOTES_LIMIT)] = "",
    final: Annotated[bool, Form()] = False,
) -> Response:
    """Freeze the draft and end the round."""

    def reporting(revision: Revision, told: work.Account, image_hash: str) -> str:
        display = display_of(page.user, page.job, told.work.content)
        return report.body(page.round, revision, told, display, image_hash)

    revision = work.freeze(page.acting(version), notes.strip(), reporting, final=final)
    say(
        page.request,
        f"Revision {revision.number} is frozen. Round {page.round.number + 1} waits for logs recorded with it.",
    )
    return RedirectResponse(page.path + "/return", 303)


@router.post(_HERE + "/withdraw", dependencies=[FromOurForm])
@in_locked_round(Station.RETURN)
def withdraw(page: RoundPage, why: Annotated[str, Form(max_length=500)] = "") -> Response:
    """Withdraw the revision that was sent last."""
    revision = work.withdraw(page.job, page.user, page.round.number, why)
    back = revisions.offered(page.job)
    words = f"revision {back.number}" if back is not None and back.number else "the calibration the car came with"
    say(
        page.request,
        f"Revision {revision.number} is withdrawn. The customer is told to go back to {words}; its changes are open in the draft.",
    )
    return RedirectResponse(page.path + "/return", 303)


def found_revision(user: User, job_id: int, number: int) -> tuple[Job, Revision]:
    """A revision of a job of the person's shop.

    Raises:
        HTTPException: 404 if there is none.
    """
    job = job_of(user, job_id)
    revision = revisions.numbered(job, number)
    if revision is None:
        raise HTTPException(404)
    return job, revision


@router.get(_REVISION + ".json")
def download(user: Person, job_id: int, number: int) -> Response:
    """A revision's calibration as JSON."""
    with unit_of_work():
        job, revision = found_revision(user, job_id, number)
        name, text = package.calibration_file(job, revision)
    answer = as_file(text, name, "application/json")
    answer.headers["x-content-hash"] = revision.calibration.content_hash
    return answer


@router.get(_REVISION + "/image.{kind}")
def image_file(user: Person, job_id: int, number: int, kind: str) -> Response:
    """A revision's image, in any of the formats."""
    if kind not in FORMATS:
        raise HTTPException(404)
    wanted: ImageFormat = kind
    with unit_of_work():
        job, revision = found_revision(user, job_id, number)
        image = images.of_revision(revision)
        if image is None:
            raise HTTPException(404)
        data = images.file_of(image, wanted)
    return as_file(data, package.image_name(job, revision, wanted), "application/octet-stream")


@router.get(_REVISION + "/report.pdf")
def report_pdf(user: Person, job_id: int, number: int) -> Response:
    """A revision's report as PDF."""
    with unit_of_work():
        job, revision = found_revision(user, job_id, number)
    if not revision.report:
        raise HTTPException(404)
    return as_file(
        report.as_pdf(report.title_of(job, revision), revision.report),
        f"{package.stem(job, revision)}.pdf",
        "application/pdf",
    )


@router.get(_REVISION + "/report")
def report_page(request: Request, user: Person, job_id: int, number: int) -> Response:
    """A revision's report as a page."""
    with unit_of_work():
        job, revision = found_revision(user, job_id, number)
    if not revision.report:
        raise HTTPException(404)
    return render(request, "report_page.html", user, job=job, revision=revision)


@router.get(_REVISION + ".zip")
def whole(user: Person, job_id: int, number: int) -> Response:
    """Everything of a return in one archive."""
    with unit_of_work():
        job, revision = found_revision(user, job_id, number)
        image, brief = images.of_revision(revision), revision.brief
    return as_file(
        package.package(job, revision, image, brief), f"{package.stem(job, revision)}.zip", "application/zip"
    )
