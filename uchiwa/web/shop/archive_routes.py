"""A job as an archive, out and in."""

from __future__ import annotations

from typing import IO

from fastapi import Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.store import archive_in, archive_out, audit
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import say
from uchiwa.web.report.report import safe_name
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.requests.streamed import streamed
from uchiwa.web.round_context import job_of
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.job_routes import new_page

router = new_router()


@router.get("/jobs/{job_id}/archive.zip")
def export(user: Person, job_id: int) -> Response:
    """Everything of a job in open formats."""
    with unit_of_work():
        job = job_of(user, job_id)
        audit.note("job-exported", shop_id=user.shop_id, user=user, subject=f"job {job.id}")
        name = f"{safe_name(job.car.title)}-{safe_name(job.car.customer.name)}.uchiwa-job.zip"

    def write(file: IO[bytes]) -> None:
        with unit_of_work():
            archive_out.export(job, file)

    return streamed(write, name, "application/zip")


@router.post("/jobs/import", dependencies=[FromOurForm])
def bring_in(request: Request, user: Person, archive_file: UploadFile) -> Response:
    """Make the job of an archive in this shop."""
    name = archive_file.filename or "archive"
    try:
        found = archive_in.open_archive(archive_file.file, name)
        with unit_of_work():
            job, logs = archive_in.bring_in(found, user)
    except BadInput as error:
        return new_page(request, user, {}, str(error))
    say(
        request,
        f"The job is here with all its rounds. {len(logs)} log{'s are' if len(logs) != 1 else ' is'} being read.",
    )
    return RedirectResponse(f"/jobs/{job.id}", 303)
