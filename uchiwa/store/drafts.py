"""The draft: steps that change it, undone and done again without end; freezing it as a revision."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from peewee import JOIN

from uchiwa.store.calibrations import without_document
from uchiwa.store.models import Draft, Event, Job, Revision, StoredCalibration, User

Cells = set[tuple[int, int]]


class StaleDraftError(RuntimeError):
    """The draft has changed since the person looked at it.

    Attributes:
        since: what was done to it meanwhile, oldest first, each with its author.
    """

    def __init__(self, since: Iterable[str] = ()) -> None:
        self.since = tuple(since)
        super().__init__("the draft has changed")


def current(job: Job) -> Draft:
    """A job's draft with its calibration and the revision it started from."""
    base = StoredCalibration.alias()
    draft: Draft = (
        Draft.select(Draft, *without_document(), Revision, *without_document(base))
        .join(StoredCalibration, on=(Draft.calibration == StoredCalibration.id))
        .switch(Draft)
        .join(Revision, on=(Draft.base == Revision.id))
        .join(base, on=(Revision.calibration == base.id))
        .where(Draft.job == job)
        .get()
    )
    draft.job = job
    return draft


def as_seen(job: Job, version: int) -> Draft:
    """A locked job's draft, if it still is the one the person saw.

    Raises:
        StaleDraftError: it is not.
    """
    draft = current(job)
    must_be(draft, version)
    return draft


def must_be(draft: Draft, version: int) -> None:
    """Raises StaleDraftError if a draft is not of the version that a person saw."""
    if draft.version != version:
        raise StaleDraftError(done_since(draft, version))


def advance(draft: Draft, version: int, **changes: Any) -> int:
    """Change the draft and its version, if it still is the one the person saw; the new version.

    Raises:
        StaleDraftError: it is not.
    """
    update = Draft.update(version=Draft.version + 1, **changes)
    if not update.where(Draft.id == draft.id, Draft.version == version).execute():
        raise StaleDraftError(done_since(draft, version))
    return version + 1


def done_since(draft: Draft, version: int) -> list[str]:
    """What was done to a draft after a version of it."""
    query = Event.select(Event, User).join(User, JOIN.LEFT_OUTER)
    found = query.where(Event.job == draft.job_id, Event.version > version).order_by(Event.id)
    return [f"{event.author.name if event.author else 'Uchiwa'}: {event.sentence}" for event in found]
