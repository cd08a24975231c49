"""The image of a job's controller, with the layout that describes it."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.difference import difference
from uchiwa.core.tables.image.files import FORMATS
from uchiwa.services.review import image_fit
from uchiwa.store import calibrations, drafts, images
from uchiwa.store import jobs as store
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import job_of, locked_job
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.image_map import image_map

router = new_router()
_HERE = "/jobs/{job_id}/image"
LARGEST = 34_000_000


@router.get(_HERE)
def page(request: Request, user: Person, job_id: int) -> Response:
    """What the image is, what it holds, and whether the draft goes into it."""
    with unit_of_work():
        job = job_of(user, job_id)
        image = images.of_job(job)
        memory, layout = images.memory_of(image) if image is not None else (None, None)
        draft = drafts.current(job)
        content = calibrations.content(draft.calibration)
        fit = image_fit(image, content)
        number = store.latest_number(job.id)
        written = None
        if image is not None and fit is not None and not fit.refusal:
            written = images.written(image, content)
    return render(
        request,
        "image.html",
        user,
        job=job,
        image=image,
        memory=memory,
        layout=layout,
        fit=fit,
        written=written,
        picture=None if layout is None else image_map(layout, written.changed if written is not None else ()),
        formats=FORMATS,
        number=number,
    )


def read_upload(file: UploadFile, what: str) -> tuple[bytes, str]:
    """Bytes and name of an uploaded file.

    Raises:
        BadInput: none was chosen, or it is too large.
    """
    data, name = file.file.read(LARGEST + 1), file.filename or what
    if not data:
        raise BadInput(f"no {what} was chosen", advice="choose both files")
    if len(data) > LARGEST:
        raise BadInput(f"the {what} is larger than {LARGEST // 10**6} MB", where=name, advice="choose another file")
    return data, name


def as_text(data: bytes, name: str) -> str:
    """Bytes as UTF-8.

    Raises:
        BadInput: they are not.
    """
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        raise BadInput("this is not text", where=name, advice="choose a layout as JSON") from None


@router.post(_HERE, dependencies=[FromOurForm])
def keep(request: Request, user: Person, job_id: int, layout: UploadFile, image: UploadFile) -> Response:
    """Keep an image and its layout; what it holds is held against the draft."""
    layout_data, layout_name = read_upload(layout, "layout")
    data, name = read_upload(image, "image")
    text = as_text(layout_data, layout_name)
    images.layout_from(text, layout_name)
    with unit_of_work():
        job = locked_job(user, job_id)
        content = images.keep(job, user, text, name, data)
        kept = calibrations.keep(user.shop_id, content)
        change = difference(calibrations.content(drafts.current(job).calibration), content)
        number = store.latest_number(job.id)
    if change.empty:
        say(request, "The image is kept. It holds what the draft holds.")
        return RedirectResponse(f"/jobs/{job_id}/image", 303)
    say(request, "The image is kept. It holds something else than the draft: here is what differs.")
    return RedirectResponse(f"/jobs/{job_id}/rounds/{number}/compare?a=draft&b=file:{kept.id}", 303)


@router.post(_HERE + "/drop", dependencies=[FromOurForm])
def drop(request: Request, user: Person, job_id: int, sure: Annotated[bool, Form()] = False) -> Response:
    """Forget the image; revisions keep theirs."""
    if not sure:
        raise BadInput("the image is dropped only when you say so", advice="tick the box")
    with unit_of_work():
        images.drop(locked_job(user, job_id), user)
    say(request, "The image is dropped. Images of revisions stay.")
    return RedirectResponse(f"/jobs/{job_id}/image", 303)
