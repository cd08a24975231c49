"""Revisions: a draft frozen under a number, handed out, flashed, withdrawn."""

from __future__ import annotations

from typing import Any

from peewee import Expression, fn

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange.calibration_json import content_hash
from uchiwa.store import calibrations, events, jobs
from uchiwa.store.acting import Acting
from uchiwa.store.clock import now
from uchiwa.store.conflict import ConflictError
from uchiwa.store.draft_steps import edit, steps
from uchiwa.store.drafts import StaleDraftError, advance, as_seen, current, done_since
from uchiwa.store.models import Event, Job, LogFile, Revision, Round, StoredCalibration, User
from uchiwa.store.rows import first


def freeze(by: Acting, notes: str, *, final: bool = False, led_to_by: dict[str, Any] | None = None) -> Revision:
    """Freeze the draft as the next revision, end the round and open the next one.

    Args:
        led_to_by: logs, answers and versions to keep with it, beside its steps.

    Raises:
        StaleDraftError: the draft has changed since the person looked, or the round has ended.
    """
    job, round_ = by.job, by.round
    draft = as_seen(job, by.version)
    if round_.returned_at is not None:
        raise StaleDraftError(done_since(draft, by.version))
    standing = [step.id for step in steps(job) if not step.put_back]
    revision = Revision.create(
        job=job,
        number=round_.number,
        parent=draft.base,
        round=round_,
        calibration=draft.calibration,
        author=by.author,
        notes=notes,
        frozen_at=now(),
        final=final,
        brief=round_.brief,
    )
    advanced = advance(draft, by.version, base=revision)
    Round.update(returned_at=now()).where(Round.id == round_.id).execute()
    Round.create(job=job, number=round_.number + 1, policy=round_.policy, brief=round_.brief, opened_at=now())
    jobs.moved(job)
    digest = content_hash(calibrations.content(draft.calibration))
    events.record(
        job,
        "freeze",
        f"Froze revision {revision.number}{', the final one' if final else ''}",
        author=by.author,
        round_=round_,
        inputs={"content_hash": digest, "parent": draft.base.number, "steps": standing} | (led_to_by or {}),
        after=draft.calibration,
        version=advanced,
    )
    return revision


def running(job: Job, round_: Round) -> Revision | None:
    """The revision that a round's logs are recorded with: the last one before it that was not withdrawn by then."""
    first_log = LogFile.select(fn.MIN(LogFile.uploaded_at)).where(LogFile.round == round_)
    stood = Revision.withdrawn_at.is_null() | (Revision.withdrawn_at > first_log)
    return _latest(job, (Revision.number < round_.number) & stood)


def offered(job: Job) -> Revision | None:
    """The revision that the customer is to run: the last one that is not withdrawn."""
    return _latest(job, Revision.withdrawn_at.is_null())


def is_sent(revision_: Revision) -> bool:
    """Whether it goes to the customer: all but the one that the car came with."""
    return revision_.number > 0 or revision_.start_map


def withdrawn_last(job: Job) -> Revision | None:
    """The newest revision, if it was withdrawn."""
    newest = Revision.select().where(Revision.job == job).order_by(Revision.number.desc()).first()
    return newest if newest is not None and newest.withdrawn_at is not None else None


def _latest(job: Job, which: Expression) -> Revision | None:
    return first(
        Revision.select(Revision, *calibrations.without_document())
        .join(StoredCalibration)
        .where(Revision.job == job, which)
        .order_by(Revision.number.desc())
    )


def withdraw(job: Job, author: User, number: int, why: str) -> Revision:
    """Withdraw the revision that was sent last: no car is to run it, and its changes are open ones of the draft again.

    Raises:
        BadInput: it is not the last one sent, or no reason is given.
        ConflictError: it is withdrawn already.
    """
    revision_ = numbered(job, number)
    if revision_ is not None and revision_.withdrawn_at is not None:
        raise ConflictError(f"Revision {number} is withdrawn already. Reload the page.")
    last = offered(job)
    if revision_ is None or last is None or last.number != number or number == 0:
        raise BadInput("only the revision that was sent last can be withdrawn", advice="reload the page")
    words = " ".join(why.split())[:500]
    if not words:
        raise BadInput("a withdrawal needs its reason", advice="say in a sentence why, for the customer reads it")
    Revision.update(withdrawn_at=now(), withdrawn_why=words).where(Revision.id == revision_.id).execute()
    base = offered(job)
    draft = current(job)
    advanced = advance(draft, draft.version, base=base)
    jobs.moved(job)
    events.record(
        job,
        "withdraw",
        f"Withdrew revision {number}: {words}",
        author=author,
        round_=jobs.rounds(job)[-1],
        inputs={"revision": number, "back_to": base.number if base is not None else 0},
        version=advanced,
    )
    return revision_


def go_back(by: Acting, number: int) -> Event:
    """Make the draft what an earlier revision was, in one step that can be undone.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        BadInput: there is no such revision, or the draft is the same already.
    """
    found = numbered(by.job, number)
    if found is None:
        raise BadInput(f"there is no revision {number}", advice="reload the page")
    draft = as_seen(by.job, by.version)
    if draft.calibration_id == found.calibration_id:
        raise BadInput(f"the draft is the same as revision {number}", advice="there is nothing to go back from")
    content = calibrations.content(found.calibration)
    return edit(draft, by, content, f"Went back to revision {number}", {"revision": number})


def keep_report(revision_: Revision, html: str) -> None:
    """Keep what the report of a revision says, for good."""
    Revision.update(report=html).where(Revision.id == revision_.id).execute()


def downloaded(revision_: Revision) -> None:
    """Note that the customer has the calibration."""
    first = (Revision.id == revision_.id) & Revision.downloaded_at.is_null()
    Revision.update(downloaded_at=now()).where(first).execute()


def flashed(job: Job, revision_: Revision) -> None:
    """Note that the customer says the revision is in the car."""
    first = (Revision.id == revision_.id) & Revision.flashed_at.is_null()
    if Revision.update(flashed_at=now()).where(first).execute():
        events.record(
            job, "flashed", f"The customer confirmed that revision {revision_.number} is flashed", author=None
        )
        jobs.moved(job)


def of_job(job: Job) -> list[Revision]:
    """A job's revisions with their content's hash, newest first."""
    return list(
        Revision.select(Revision, StoredCalibration.id, StoredCalibration.content_hash, User)
        .join(StoredCalibration)
        .switch(Revision)
        .join(User)
        .where(Revision.job == job)
        .order_by(Revision.number.desc())
    )


def numbered(job: Job, number: int) -> Revision | None:
    """One revision of a job with its calibration."""
    return first(
        Revision.select(Revision, *calibrations.without_document())
        .join(StoredCalibration)
        .where(Revision.job == job, Revision.number == number)
    )


def parent_of(revision_: Revision) -> Revision | None:
    """The revision that another was made from, with its calibration."""
    if revision_.parent_id is None:
        return None
    return first(
        Revision.select(Revision, *calibrations.without_document())
        .join(StoredCalibration)
        .where(Revision.id == revision_.parent_id)
    )
