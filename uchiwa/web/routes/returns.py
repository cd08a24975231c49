"""The Return station: freeze the draft as a revision and hand the calibration out."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.interchange import calibration_json
from uchiwa.core.progress import Station
from uchiwa.core.review import difference
from uchiwa.store import calibrations, drafts, setups
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render, say
from uchiwa.web.session import FromOurForm, Person
from uchiwa.web.standing import job_of, must_be_open, round_page

router = APIRouter()
_HERE = "/jobs/{job_id}/rounds/{number}/return"
NOTES_LIMIT = 4000


@router.get(_HERE)
def form(request: Request, user: Person, job_id: int, number: int) -> Response:
    """The form to freeze, or what was frozen."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.RETURN)
        draft = drafts.current(page.job)
        revisions = drafts.revisions(page.job)
        change = difference(calibrations.content(draft.base.calibration), calibrations.content(draft.calibration))
    frozen = next((one for one in revisions if one.number == number), None) if page.round.returned_at else None
    return render(
        request, "return.html", user, page=page, draft=draft, revisions=revisions, change=change, frozen=frozen
    )


@router.post(_HERE, dependencies=[FromOurForm])
def freeze(
    request: Request,
    user: Person,
    job_id: int,
    number: int,
    version: Annotated[int, Form()],
    notes: Annotated[str, Form(max_length=NOTES_LIMIT)] = "",
    final: Annotated[bool, Form()] = False,
) -> Response:
    """Freeze the draft and end the round; a final revision not while a temporary setup is in force."""
    with unit_of_work():
        page = round_page(user, job_id, number, Station.RETURN)
        must_be_open(page)
        if final:
            setups.must_be_off(page.job)
        revision = drafts.freeze(page.job, page.round, user, version, notes.strip())
    say(request, f"Revision {revision.number} is frozen. Round {number + 1} waits for logs recorded with it.")
    return RedirectResponse(page.path + "/return", 303)


@router.get("/jobs/{job_id}/revisions/{number}.json")
def download(user: Person, job_id: int, number: int) -> Response:
    """A revision's calibration as JSON."""
    with unit_of_work():
        job = job_of(user, job_id)
        revision = drafts.revision(job, number)
        if revision is None:
            raise HTTPException(404)
        calibration = calibrations.content(revision.calibration)
    name = f"{calibration.id}-revision-{number}.json"
    headers = {
        "content-disposition": f'attachment; filename="{name}"',
        "x-content-hash": revision.calibration.content_hash,
    }
    return Response(calibration_json.dumps(calibration), media_type="application/json", headers=headers)
