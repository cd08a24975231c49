"""The draft: taking proposals into it, putting them back, freezing it as a revision."""

from __future__ import annotations

from typing import Any

from uchiwa.core.interchange.calibration_json import content_hash
from uchiwa.core.table import Calibration
from uchiwa.store import calibrations, events, jobs
from uchiwa.store.clock import now
from uchiwa.store.models import Draft, Event, Job, Revision, Round, StoredCalibration, User


class StaleDraftError(RuntimeError):
    """The draft has changed since the person looked at it."""


class CannotPutBackError(RuntimeError):
    """Later steps build on the one that was to be put back."""


def current(job: Job) -> Draft:
    """A job's draft with its calibration and the revision it started from."""
    base = StoredCalibration.alias()
    return (
        Draft.select(Draft, StoredCalibration, Revision, base)
        .join(StoredCalibration, on=(Draft.calibration == StoredCalibration.id))
        .switch(Draft)
        .join(Revision, on=(Draft.base == Revision.id))
        .join(base, on=(Revision.calibration == base.id))
        .where(Draft.job == job)
        .get()
    )


def _advance(draft: Draft, version: int, **changes: Any) -> None:
    """Change the draft and its version, if it still is the one the person saw.

    Raises:
        StaleDraftError: it is not.
    """
    update = Draft.update(version=Draft.version + 1, **changes)
    if not update.where(Draft.id == draft.id, Draft.version == version).execute():
        raise StaleDraftError


def take(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    calibration: Calibration,
    sentence: str,
    inputs: dict[str, Any],
) -> Event:
    """Take a proposal into the draft.

    Args:
        version: of the draft from which the proposal was computed.
        calibration: the draft's content with the proposal in it.
        sentence: what changed, in plain words.
        inputs: everything the proposal was computed from.

    Raises:
        StaleDraftError: the draft has changed since.
    """
    return change(job, round_, author, version, calibration, jobs.TAKE, sentence, inputs)


def change(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    calibration: Calibration,
    kind: str,
    sentence: str,
    inputs: dict[str, Any],
) -> Event:
    """Put another content into the draft, as an event of some kind.

    Raises:
        StaleDraftError: the draft has changed since.
    """
    draft = current(job)
    stored = calibrations.keep(author.shop_id, calibration)
    _advance(draft, version, calibration=stored)
    jobs.moved(job)
    return events.record(
        job,
        kind,
        sentence,
        author=author,
        round_=round_,
        inputs=inputs,
        before=draft.calibration,
        after=stored,
    )


def put_back(job: Job, round_: Round, author: User, version: int, event_id: int) -> None:
    """Undo the last step taken in this round; the undoing is an event of its own.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: it is not the last step that stands.
    """
    last = (
        Event.select()
        .where(Event.job == job, Event.round == round_, Event.kind == jobs.TAKE, ~Event.put_back)
        .order_by(Event.id.desc())
        .first()
    )
    if last is None or last.id != event_id:
        raise CannotPutBackError
    if Event.select().where(Event.job == job, Event.kind.startswith("setup-"), Event.id > last.id).exists():
        raise CannotPutBackError
    draft = current(job)
    _advance(draft, version, calibration=StoredCalibration.get_by_id(last.before_id))
    Event.update(put_back=True).where(Event.id == last.id).execute()
    events.record(
        job,
        "put-back",
        f"Put back: {last.sentence}",
        author=author,
        round_=round_,
        inputs={"event": last.id},
        before=draft.calibration,
        after=last.before,
    )


def freeze(job: Job, round_: Round, author: User, version: int, notes: str) -> Revision:
    """Freeze the draft as the next revision, end the round and open the next one.

    Raises:
        StaleDraftError: the draft has changed since the person looked, or the round has ended.
    """
    draft = current(job)
    if draft.version != version or round_.returned_at is not None:
        raise StaleDraftError
    revision = Revision.create(
        job=job,
        number=round_.number,
        parent=draft.base,
        round=round_,
        calibration=draft.calibration,
        author=author,
        notes=notes,
        frozen_at=now(),
    )
    _advance(draft, version, base=revision)
    Round.update(returned_at=now()).where(Round.id == round_.id).execute()
    Round.create(job=job, number=round_.number + 1, policy=round_.policy, brief=round_.brief, opened_at=now())
    jobs.moved(job)
    digest = content_hash(calibrations.content(draft.calibration))
    events.record(
        job,
        "freeze",
        f"Froze revision {revision.number}",
        author=author,
        round_=round_,
        inputs={"content_hash": digest, "parent": draft.base.number},
        after=draft.calibration,
    )
    return revision


def revisions(job: Job) -> list[Revision]:
    """A job's revisions with their content's hash, newest first."""
    return list(
        Revision.select(Revision, StoredCalibration.id, StoredCalibration.content_hash, User)
        .join(StoredCalibration)
        .switch(Revision)
        .join(User)
        .where(Revision.job == job)
        .order_by(Revision.number.desc())
    )


def revision(job: Job, number: int) -> Revision | None:
    """One revision of a job with its calibration."""
    return (
        Revision.select(Revision, StoredCalibration)
        .join(StoredCalibration)
        .where(Revision.job == job, Revision.number == number)
        .first()
    )
