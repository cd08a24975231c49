"""The draft: steps that change it, undone and done again without end; freezing it as a revision."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterable
from typing import Any

from peewee import JOIN, Expression, fn

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.attribution import Step
from uchiwa.core.tables.interchange.calibration_json import content_hash
from uchiwa.core.tables.table import Calibration
from uchiwa.store import calibrations, events, jobs
from uchiwa.store.clock import now
from uchiwa.store.conflict import ConflictError
from uchiwa.store.models import Draft, Event, Job, LogFile, Revision, Round, StoredCalibration, User

Cells = set[tuple[int, int]]


class StaleDraftError(RuntimeError):
    """The draft has changed since the person looked at it.

    Attributes:
        since: what was done to it meanwhile, oldest first, each with its author.
    """

    def __init__(self, since: Iterable[str] = ()) -> None:
        self.since = tuple(since)
        super().__init__("the draft has changed")


class CannotPutBackError(RuntimeError):
    """There is nothing to undo or to do again, or something stands in between."""


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


def as_seen(job: Job, version: int) -> Draft:
    """A locked job's draft, if it still is the one the person saw.

    Raises:
        StaleDraftError: it is not.
    """
    draft = current(job)
    if draft.version != version:
        raise StaleDraftError(_since(draft, version))
    return draft


def _advance(draft: Draft, version: int, **changes: Any) -> int:
    """Change the draft and its version, if it still is the one the person saw; the new version.

    Raises:
        StaleDraftError: it is not.
    """
    update = Draft.update(version=Draft.version + 1, **changes)
    if not update.where(Draft.id == draft.id, Draft.version == version).execute():
        raise StaleDraftError(_since(draft, version))
    return version + 1


def _since(draft: Draft, version: int) -> list[str]:
    """What was done to a draft after a version of it."""
    query = Event.select(Event, User).join(User, JOIN.LEFT_OUTER)
    found = query.where(Event.job == draft.job_id, Event.version > version).order_by(Event.id)
    return [f"{one.author.name if one.author_id else 'Uchiwa'}: {one.sentence}" for one in found]


def take(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    calibration: Calibration,
    sentence: str,
    inputs: dict[str, Any],
    kind: str = jobs.TAKE,
) -> Event:
    """Take a proposal into the draft.

    Args:
        version: of the draft from which the proposal was computed.
        calibration: the draft's content with the proposal in it.
        sentence: what changed, in plain words.
        inputs: everything the proposal was computed from.
        kind: TAKE or SPARK.

    Raises:
        StaleDraftError: the draft has changed since.
    """
    return change(job, round_, author, version, calibration, kind, sentence, inputs)


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
    advanced = _advance(draft, version, calibration=stored)
    Event.update(abandoned=True).where(Event.job == job, Event.put_back, ~Event.abandoned).execute()
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
        version=advanced,
    )


def edit(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    calibration: Calibration,
    sentence: str,
    inputs: dict[str, Any],
    reason: str = "",
) -> Event:
    """An edit by hand, with why it was made.

    Raises:
        StaleDraftError: the draft has changed since.
    """
    why = " ".join(reason.split())[:200]
    told = f"{sentence} ({why})" if why else sentence
    return change(job, round_, author, version, calibration, jobs.EDIT, told, inputs | {"reason": why})


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
    standing = [one for one in found if not one.put_back]
    known = calibrations.contents([number for one in standing for number in (one.before_id, one.after_id)])
    return tuple(Step(known[one.before_id], known[one.after_id], _reason(one), one.kind, one.id) for one in standing)


def _reason(step: Event) -> str:
    """What a step was, without the table's name."""
    if step.kind == jobs.SPARK:
        return f"{json.loads(step.inputs).get('kind', 'spark')} proposal"
    if step.kind != jobs.TAKE:
        return str(step.sentence).split(": ", 1)[-1]
    policy = json.loads(step.inputs).get("policy", {})
    return f"fuel proposal, {policy.get('estimator', 'surface')}, {policy.get('strength', 100):g} % strength"


def undoable(found: list[Event]) -> Event | None:
    """Of a draft's steps the one that undoing would put back."""
    standing = [one for one in found if not one.put_back]
    return standing[-1] if standing and standing[-1].kind in jobs.STEPS else None


def redoable(found: list[Event]) -> Event | None:
    """Of a draft's steps the one that would be done again: the first undone one that no other has taken the place of."""
    return next((one for one in found if one.put_back and not one.abandoned), None)


def undo(job: Job, round_: Round, author: User, version: int) -> Event:
    """Put back the last step that stands.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: there is none, or a temporary setup was switched after it.
    """
    as_seen(job, version)
    step = undoable(steps(job))
    if step is None:
        raise CannotPutBackError
    _swap(job, round_, author, version, step, undone=True)
    return step


def redo(job: Job, round_: Round, author: User, version: int) -> Event:
    """Do the last undone step again.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: there is none.
    """
    as_seen(job, version)
    step = redoable(steps(job))
    if step is None:
        raise CannotPutBackError
    _swap(job, round_, author, version, step, undone=False)
    return step


def _swap(job: Job, round_: Round, author: User, version: int, step: Event, *, undone: bool) -> None:
    draft = current(job)
    content = step.before if undone else step.after
    if draft.calibration_id != (step.after_id if undone else step.before_id):
        raise CannotPutBackError
    advanced = _advance(draft, version, calibration=content)
    Event.update(put_back=undone).where(Event.id == step.id).execute()
    events.record(
        job,
        events.UNDO if undone else events.REDO,
        f"{'Undid' if undone else 'Did again'}: {step.sentence}",
        author=author,
        round_=round_,
        inputs={"event": step.id},
        before=draft.calibration,
        after=content,
        version=advanced,
    )


def put_back(job: Job, round_: Round, author: User, version: int, event_id: int) -> None:
    """Undo a step that a person pointed at, which must be the last one that stands.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: it is not the last step that stands.
    """
    as_seen(job, version)
    step = undoable(steps(job))
    if step is None or step.id != event_id:
        raise CannotPutBackError
    undo(job, round_, author, version)


def pins_of(draft: Draft, table_id: str) -> Cells:
    """The pinned cells [i, j] of a table."""
    return {(int(i), int(j)) for i, j in json.loads(draft.pins).get(table_id, [])}


def pin(draft: Draft, table_id: str, cells: Cells) -> bool:
    """Pin cells, or free them if all of them are pinned; whether they are pinned now."""
    return keep_pins(draft, table_id, pins_of(draft, table_id), cells)


def keep_pins(draft: Draft, table_id: str, old: Cells, cells: Cells) -> bool:
    """Keep a table's pins after cells were toggled."""
    free = cells <= old
    now_pinned = old - cells if free else old | cells
    pins = json.loads(draft.pins) | {table_id: sorted(now_pinned)}
    Draft.update(pins=json.dumps(pins)).where(Draft.id == draft.id).execute()
    return not free


def drop_pins(draft: Draft, table_ids: Collection[str]) -> None:
    """Forget the pins of tables whose cells have other breakpoints now."""
    pins = {key: value for key, value in json.loads(draft.pins).items() if key not in table_ids}
    Draft.update(pins=json.dumps(pins)).where(Draft.id == draft.id).execute()


def freeze(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    notes: str,
    *,
    final: bool = False,
    led_to_by: dict[str, Any] | None = None,
) -> Revision:
    """Freeze the draft as the next revision, end the round and open the next one.

    Args:
        led_to_by: logs, answers and versions to keep with it, beside its steps.

    Raises:
        StaleDraftError: the draft has changed since the person looked, or the round has ended.
    """
    draft = as_seen(job, version)
    if round_.returned_at is not None:
        raise StaleDraftError(_since(draft, version))
    standing = [one.id for one in steps(job) if not one.put_back]
    revision = Revision.create(
        job=job,
        number=round_.number,
        parent=draft.base,
        round=round_,
        calibration=draft.calibration,
        author=author,
        notes=notes,
        frozen_at=now(),
        final=final,
        brief=round_.brief,
    )
    advanced = _advance(draft, version, base=revision)
    Round.update(returned_at=now()).where(Round.id == round_.id).execute()
    Round.create(job=job, number=round_.number + 1, policy=round_.policy, brief=round_.brief, opened_at=now())
    jobs.moved(job)
    digest = content_hash(calibrations.content(draft.calibration))
    events.record(
        job,
        "freeze",
        f"Froze revision {revision.number}{', the final one' if final else ''}",
        author=author,
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


def withdrawn_last(job: Job) -> Revision | None:
    """The newest revision, if it was withdrawn."""
    newest = Revision.select().where(Revision.job == job).order_by(Revision.number.desc()).first()
    return newest if newest is not None and newest.withdrawn_at is not None else None


def _latest(job: Job, which: Expression) -> Revision | None:
    return (
        Revision.select(Revision, StoredCalibration)
        .join(StoredCalibration)
        .where(Revision.job == job, which)
        .order_by(Revision.number.desc())
        .first()
    )


def withdraw(job: Job, author: User, number: int, why: str) -> Revision:
    """Withdraw the revision that was sent last: no car is to run it, and its changes are open ones of the draft again.

    Raises:
        BadInput: it is not the last one sent, or no reason is given.
        ConflictError: it is withdrawn already.
    """
    revision_ = revision(job, number)
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
    advanced = _advance(draft, draft.version, base=base)
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


def go_back(job: Job, round_: Round, author: User, version: int, number: int) -> Event:
    """Make the draft what an earlier revision was, in one step that can be undone.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        BadInput: there is no such revision, or the draft is the same already.
    """
    found = revision(job, number)
    if found is None:
        raise BadInput(f"there is no revision {number}", advice="reload the page")
    draft = as_seen(job, version)
    if draft.calibration_id == found.calibration_id:
        raise BadInput(f"the draft is the same as revision {number}", advice="there is nothing to go back from")
    content = calibrations.content(found.calibration)
    return edit(job, round_, author, version, content, f"Went back to revision {number}", {"revision": number})


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


def parent_of(revision_: Revision) -> Revision | None:
    """The revision that another was made from, with its calibration."""
    if revision_.parent_id is None:
        return None
    return (
        Revision.select(Revision, StoredCalibration)
        .join(StoredCalibration)
        .where(Revision.id == revision_.parent_id)
        .first()
    )
