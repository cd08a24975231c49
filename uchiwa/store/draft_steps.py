"""The steps that change a draft, undone and done again without end."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

from peewee import JOIN

from uchiwa.core.tables.attribution import Step
from uchiwa.core.tables.table import Calibration
from uchiwa.store import calibrations, events, jobs
from uchiwa.store.acting import Acting
from uchiwa.store.drafts import advance, as_seen, current
from uchiwa.store.models import Draft, Event, Job, Revision, Round, User


class CannotPutBackError(RuntimeError):
    """There is nothing to undo or to do again, or something stands in between."""


@dataclass(frozen=True)
class StepAccount:
    """What the history tells of a step.

    Attributes:
        kind: TAKE, SPARK, IDLE, CLAMP or another of the steps of `jobs`, or the switching of a setup.
        sentence: what changed, in plain words.
        inputs: everything it was computed from.
    """

    kind: str
    sentence: str
    inputs: dict[str, Any]


def change(draft: Draft, by: Acting, calibration: Calibration, told: StepAccount) -> Event:
    """Put another content into the draft: a proposal that is taken, an edit, a setup.

    Args:
        draft: the job's; it is as the step leaves it afterwards.
        calibration: the draft's content with the change in it.

    Raises:
        StaleDraftError: the draft has changed since.
    """
    job, before = draft.job, draft.calibration
    stored = calibrations.keep(by.author.shop_id, calibration)
    advanced = advance(draft, by.version, calibration=stored)
    draft.version, draft.calibration = advanced, stored
    Event.update(abandoned=True).where(Event.job == job, Event.put_back, ~Event.abandoned).execute()
    jobs.moved(job)
    return events.record(
        job,
        told.kind,
        told.sentence,
        author=by.author,
        round_=by.round,
        inputs=told.inputs,
        before=before,
        after=stored,
        version=advanced,
    )


def edit(draft: Draft, by: Acting, calibration: Calibration, sentence: str, inputs: dict[str, Any]) -> Event:
    """An edit by hand, with why it was made.

    Raises:
        StaleDraftError: the draft has changed since.
    """
    why = " ".join(by.why.split())[:200]
    told = f"{sentence} ({why})" if why else sentence
    return change(draft, by, calibration, StepAccount(jobs.EDIT, told, inputs | {"reason": why}))


def steps(job: Job) -> list[Event]:
    """The steps since the revision the draft stands on, oldest first, undone ones too, with their authors."""
    draft = Draft.select(Draft, Revision).join(Revision, on=(Draft.base == Revision.id)).where(Draft.job == job).get()
    return list(
        Event.select(Event, User, Round)
        .join(User, JOIN.LEFT_OUTER)
        .switch(Event)
        .join(Round, on=(Event.round == Round.id))
        .where(Event.job == job, Round.number > draft.base.number, Event.kind.in_((*jobs.STEPS, *_BARRIERS)))
        .order_by(Event.id)
    )


_BARRIERS = ("setup-on", "setup-off")


def as_steps(found: Iterable[Event]) -> tuple[Step, ...]:
    """The steps that stand, as the core has them; their contents in two queries for any number of them."""
    standing = [(event, event.before_id, event.after_id) for event in found if not event.put_back]
    ids = [(before, after) for _, before, after in standing if before is not None and after is not None]
    known = calibrations.contents([number for pair in ids for number in pair])
    return tuple(
        Step(known[before], known[after], _reason(event), event.kind, event.id)
        for event, before, after in standing
        if before is not None and after is not None
    )


def _reason(step: Event) -> str:
    """What a step was, without the table's name."""
    if step.kind in (jobs.SPARK, jobs.IDLE, jobs.CLAMP):
        return f"{json.loads(step.inputs).get('kind', 'spark')} proposal"
    if step.kind != jobs.TAKE:
        return str(step.sentence).split(": ", 1)[-1]
    policy = json.loads(step.inputs).get("policy", {})
    return f"fuel proposal, {policy.get('estimator', 'surface')}, {policy.get('strength', 100):g} % strength"


def undoable(found: list[Event]) -> Event | None:
    """Of a draft's steps the one that undoing would put back."""
    standing = [event for event in found if not event.put_back]
    return standing[-1] if standing and standing[-1].kind in jobs.STEPS else None


def redoable(found: list[Event]) -> Event | None:
    """Of a draft's steps the one that would be done again: the first undone one that no other has taken the place of."""
    return next((event for event in found if event.put_back and not event.abandoned), None)


def ends_of(found: list[Event]) -> tuple[Event | None, Event | None]:
    """Of a draft's steps those that undoing would put back and that would be done again."""
    return undoable(found), redoable(found)


def ends(job: Job) -> tuple[Event | None, Event | None]:
    """The steps that undoing would put back and that would be done again, without reading the others."""
    base = Draft.select(Revision.number).join(Revision, on=(Draft.base == Revision.id)).where(Draft.job == job)
    query = (
        Event.select(Event.id, Event.kind, Event.sentence, Event.put_back, Event.abandoned)
        .join(Round, on=(Event.round == Round.id))
        .where(Event.job == job, Round.number > base, Event.kind.in_((*jobs.STEPS, *_BARRIERS)))
    )
    last = query.where(~Event.put_back).order_by(Event.id.desc()).limit(1)
    first = query.where(Event.put_back, ~Event.abandoned).order_by(Event.id).limit(1)
    return undoable(list(last)), redoable(list(first))


def undo(by: Acting) -> Event:
    """Put back the last step that stands.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: there is none, or a temporary setup was switched after it.
    """
    as_seen(by.job, by.version)
    step = _with_contents(ends(by.job)[0])
    if step is None:
        raise CannotPutBackError
    _swap(by, step, undone=True)
    return step


def redo(by: Acting) -> Event:
    """Do the last undone step again.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: there is none.
    """
    as_seen(by.job, by.version)
    step = _with_contents(ends(by.job)[1])
    if step is None:
        raise CannotPutBackError
    _swap(by, step, undone=False)
    return step


def _with_contents(step: Event | None) -> Event | None:
    """A step with its calibrations; None stays None."""
    return None if step is None else Event.get_by_id(step.id)


def _swap(by: Acting, step: Event, *, undone: bool) -> None:
    draft = current(by.job)
    content = step.before if undone else step.after
    if draft.calibration_id != (step.after_id if undone else step.before_id):
        raise CannotPutBackError
    advanced = advance(draft, by.version, calibration=content)
    Event.update(put_back=undone).where(Event.id == step.id).execute()
    events.record(
        by.job,
        events.UNDO if undone else events.REDO,
        f"{'Undid' if undone else 'Did again'}: {step.sentence}",
        author=by.author,
        round_=by.round,
        inputs={"event": step.id},
        before=draft.calibration,
        after=content,
        version=advanced,
    )


def put_back(by: Acting, event_id: int) -> None:
    """Undo a step that a person pointed at, which must be the last one that stands.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: it is not the last step that stands.
    """
    as_seen(by.job, by.version)
    step = _with_contents(ends(by.job)[0])
    if step is None or step.id != event_id:
        raise CannotPutBackError
    undo(by)
