"""Revisions: the calibrations and images that were frozen."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, HTTPException, Path, Query, Response

from uchiwa.core.tables.image.files import ImageFormat
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.store import calibrations, images, revisions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Revision, User
from uchiwa.web.api.caller import Fetcher, Reader
from uchiwa.web.api.jobs import Id, job_of, utc
from uchiwa.web.api.models import RevisionOut, RevisionsOut
from uchiwa.web.requests.attachment import as_file

router = APIRouter()
RevisionNumber = Annotated[int, Path(ge=0, le=100_000)]
_FILE: dict[int | str, dict[str, Any]] = {
    200: {"content": {"application/octet-stream": {}}, "description": "The file."}
}


@router.get("/jobs/{job_id}/revisions", tags=["revisions"])
def list_revisions(user: Reader, job_id: Id) -> RevisionsOut:
    """A job's revisions, the newest first."""
    with unit_of_work():
        found = revisions.of_job(job_of(user, job_id))
        with_image = images.of_revisions(found)
        return RevisionsOut(
            revisions=[
                RevisionOut(
                    number=revision.number, notes=revision.notes, frozen_at=utc(revision.frozen_at), final=revision.final,
                    flashed=revision.flashed_at is not None, withdrawn=revision.withdrawn_at is not None,
                    sha256=revision.calibration.content_hash, image=revision.id in with_image,
                )
                for revision in found
            ]
        )  # fmt: skip


def _revision(user: User, job_id: int, number: int) -> Revision:
    found = revisions.numbered(job_of(user, job_id), number)
    if found is None:
        raise HTTPException(404, "There is no such revision in this job.")
    return found


@router.get(
    "/jobs/{job_id}/revisions/{number}/calibration", tags=["revisions"], response_class=Response,
    responses={200: {"content": {"application/json": {"schema": calibration_json.schema()}, "application/xml": {}}, "description": "The calibration."}},
)  # fmt: skip
def get_calibration(
    user: Fetcher,
    job_id: Id,
    number: RevisionNumber,
    cdf_: Annotated[bool, Query(alias="cdf", description="As ASAM CDF 2.0 instead of JSON.")] = False,
) -> Response:
    """A revision's calibration."""
    with unit_of_work():
        content = calibrations.content(_revision(user, job_id, number).calibration)
    if cdf_:
        return as_file(cdf.dumps(content), f"{content.id}-{number}.cdfx", "application/xml")
    return as_file(calibration_json.dumps(content), f"{content.id}-{number}.json", "application/json")


@router.get("/jobs/{job_id}/revisions/{number}/image", tags=["revisions"], response_class=Response, responses=_FILE)
def get_image(
    user: Fetcher,
    job_id: Id,
    number: RevisionNumber,
    format: Annotated[ImageFormat | None, Query(description="In another form than the image came in.")] = None,
) -> Response:
    """The image that a revision went out as."""
    with unit_of_work():
        image = images.of_revision(_revision(user, job_id, number))
        if image is None:
            raise HTTPException(404, "This revision goes out as calibration, not as an image.")
        data = images.file_of(image, format)
    return as_file(data, f"revision-{number}.bin", "application/octet-stream")
