"""What was done to a job, by whom, and with what inputs."""

from __future__ import annotations

import json
from collections.abc import Collection
from typing import Any

from peewee import JOIN

from uchiwa.store.clock import now
from uchiwa.store.models import Event, Job, Round, StoredCalibration, User
from uchiwa.store.rows import first


def record(
    job: Job,
    kind: str,
    sentence: str,
    *,
    author: User | None,
    round_: Round | None = None,
    inputs: dict[str, Any] | None = None,
    before: StoredCalibration | None = None,
    after: StoredCalibration | None = None,
    version: int | None = None,
) -> Event:
    """Add an event to a job's history."""
    return Event.create(
        job=job,
        round=round_,
        kind=kind,
        author=author,
        at=now(),
        sentence=sentence[:500],
        inputs=json.dumps(inputs or {}, ensure_ascii=False),
        before=before,
        after=after,
        version=version,
    )


UNDO, REDO, BRIEF = "undo", "redo", "brief"


def latest(job: Job, kind: str) -> Event | None:
    """The newest event of a kind, with its author."""
    query = Event.select(Event, User).join(User, JOIN.LEFT_OUTER).where(Event.job == job, Event.kind == kind)
    return first(query.order_by(Event.id.desc()))


def history(
    job: Job,
    round_: Round | None = None,
    *,
    kinds: Collection[str] = (),
    before: int | None = None,
    limit: int | None = None,
) -> list[Event]:
    """A job's events, or a round's, newest first, with their authors.

    Undoing and doing again are not among them: the step itself says whether it stands.

    Args:
        kinds: only of these kinds.
        before: the id of an event; only earlier ones.
        limit: so many at most.
    """
    query = Event.select(Event, User).join(User, JOIN.LEFT_OUTER)
    query = query.where(Event.job == job, Event.kind.not_in((UNDO, REDO)))
    if round_ is not None:
        query = query.where(Event.round == round_)
    if kinds:
        query = query.where(Event.kind.in_(list(kinds)))
    if before is not None:
        query = query.where(Event.id < before)
    return list(query.order_by(Event.id.desc()).limit(limit))
