"""Jobs and logs."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import PurePath
from typing import Annotated

from fastapi import APIRouter, HTTPException, Path, Query, Response, UploadFile

from uchiwa.core.rounds.progress import RoundFacts, whose_move
from uchiwa.store import findings, jobs, log_files, shops, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, Round, User
from uchiwa.web.api.caller import Reader, Sender
from uchiwa.web.api.models import FindingOut, FindingsOut, JobOut, JobsOut, LogOut, LogsOut, Refusal

router = APIRouter()
LARGEST_ID = 2**63 - 1
Id = Annotated[int, Path(ge=1, le=LARGEST_ID)]
Number = Annotated[int, Path(ge=1, le=100_000)]
_PAGE = 50


def job_of(user: User, job_id: int) -> Job:
    """A job of the person's shop.

    Raises:
        HTTPException: 404.
    """
    found = jobs.find(user.shop_id, job_id)
    if found is None:
        raise HTTPException(404, "There is no such job in your shop.")
    return found


def round_of(job: Job, number: int) -> Round:
    """A round of a job.

    Raises:
        HTTPException: 404.
    """
    found = next((round_ for round_ in jobs.rounds(job) if round_.number == number), None)
    if found is None:
        raise HTTPException(404, "There is no such round in this job.")
    return found


def utc(moment: datetime) -> datetime:
    """A moment of the database, which is UTC, with its zone said."""
    return moment.replace(tzinfo=UTC)


def _job_out(job: Job, latest: Round, facts: RoundFacts) -> JobOut:
    move, sentence = whose_move(facts, closed=job.closed)
    return JobOut(
        id=job.id, customer=job.car.customer.name, car=job.car.title, details=job.car.details, closed=job.closed,
        round=latest.number, move=str(move), sentence=sentence, moved_at=utc(job.moved_at),
    )  # fmt: skip


def log_out(log: LogFile, number: int) -> LogOut:
    """A log as it is answered with."""
    return LogOut(
        id=log.id, job=log.job_id, round=number, name=log.name, size=log.size, state=log.state, accepted=log.accepted,
        message=log.message, seconds=log.duration_s, uploaded_at=utc(log.uploaded_at),
    )  # fmt: skip


@router.get("/jobs", tags=["jobs"])
def list_jobs(
    user: Reader,
    closed: Annotated[bool, Query(description="Those at rest instead of those under work.")] = False,
    after: Annotated[int, Query(ge=0, le=LARGEST_ID, description="Only those that follow this id.")] = 0,
) -> JobsOut:
    """The shop's jobs by id, fifty at a time."""
    with unit_of_work():
        found = jobs.page_of(user.shop_id, after, _PAGE + 1, closed=closed)
        latest = jobs.latest_rounds([job.id for job in found[:_PAGE]])
        facts = jobs.facts_of(list(latest.values()))
        rows = [_job_out(job, latest[job.id], facts[latest[job.id].id]) for job in found[:_PAGE]]
    return JobsOut(jobs=rows, next=rows[-1].id if len(found) > _PAGE else None)


@router.get("/jobs/{job_id}", tags=["jobs"])
def get_job(user: Reader, job_id: Id) -> JobOut:
    """One job."""
    with unit_of_work():
        job = job_of(user, job_id)
        latest = jobs.rounds(job)[-1]
        return _job_out(job, latest, jobs.facts_of([latest])[latest.id])


@router.get("/jobs/{job_id}/rounds/{number}/logs", tags=["logs"])
def list_logs(user: Reader, job_id: Id, number: Number) -> LogsOut:
    """The logs of a round."""
    with unit_of_work():
        round_ = round_of(job_of(user, job_id), number)
        return LogsOut(logs=[log_out(log, number) for log in jobs.round_logs(round_)])


@router.post(
    "/jobs/{job_id}/logs",
    tags=["logs"],
    status_code=202,
    responses={200: {"model": LogOut}, 409: {"model": Refusal}, 413: {"model": Refusal}},
)
def send_log(user: Sender, job_id: Id, file: UploadFile, response: Response) -> LogOut:
    """Send a log to the round under work. It is kept first and read afterwards: ask for its state.

    Answers 200 instead of 202 if the job has this very file already.
    """
    with unit_of_work():
        job = job_of(user, job_id)
        if job.closed:
            raise HTTPException(409, "This job is closed: open it on its page, then send the log.")
        round_ = jobs.rounds(job)[-1]
        shops.must_have_room(job.shop_id, 1)
    if not file.size:
        raise HTTPException(400, "The file is empty: export the log again and send that file.")
    name = PurePath(file.filename or "log").name[:200] or "log"
    log, new = uploads.receive(job, round_, name, file.file)
    if not new:
        response.status_code = 200
    return log_out(log, round_.number)


def _log_of(user: User, log_id: int) -> tuple[LogFile, int]:
    found = log_files.of_shop(user.shop_id, log_id)
    if found is None:
        raise HTTPException(404, "There is no such log in your shop.")
    return found, found.round.number


@router.get("/logs/{log_id}", tags=["logs"])
def get_log(user: Reader, log_id: Id) -> LogOut:
    """One log, and what became of it."""
    with unit_of_work():
        return log_out(*_log_of(user, log_id))


@router.get("/logs/{log_id}/findings", tags=["logs"])
def get_findings(user: Reader, log_id: Id) -> FindingsOut:
    """What the checks found in a log."""
    with unit_of_work():
        log, _ = _log_of(user, log_id)
        found = findings.of_logs([log])[log.id]
    return FindingsOut(
        log=log.id,
        findings=[
            FindingOut(rule=finding.rule, severity=finding.severity.value, customer=finding.customer, tuner=finding.tuner, spans=list(finding.spans))
            for finding in found
        ],
    )  # fmt: skip
