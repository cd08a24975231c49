"""A draft under review, with what its round's logs say."""

from __future__ import annotations

import json
from dataclasses import dataclass, replace

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.review.concern import Concern, outstanding
from uchiwa.core.review.reviewed import Duty, ImageFit, ReviewedDraft, VisitedCells
from uchiwa.core.review.rules import review
from uchiwa.core.tables.attribution import Step, by_hand
from uchiwa.core.tables.difference import Difference, difference
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.services.log_cache import from_logs
from uchiwa.services.visits import duty_of, visits
from uchiwa.store import answers, calibrations, draft_steps, drafts, images, jobs, knock_decisions, setups
from uchiwa.store.models import Answer, ControllerImage, Draft, Event, Job, LogFile, Round


@dataclass(frozen=True, eq=False)
class ReviewWork:
    """What the Review station shows.

    Attributes:
        draft: the job's.
        base, content: the revision the draft stands on, and the draft.
        change: from one to the other.
        reviewed: what the rules looked at.
        concerns: what they found.
        answers: by the concern's key.
        events: the steps since the revision, undone ones too.
        steps: those that stand.
    """

    draft: Draft
    base: Calibration
    content: Calibration
    change: Difference
    reviewed: ReviewedDraft
    concerns: tuple[Concern, ...]
    answers: dict[str, Answer]
    events: list[Event]
    steps: tuple[Step, ...]

    @property
    def open(self) -> tuple[Concern, ...]:
        """Concerns that still keep the draft from being frozen."""
        return outstanding(self.concerns, self.answers)


def image_fit(image: ControllerImage | None, content: Calibration) -> ImageFit | None:
    """How a calibration goes into the controller's image; None without one."""
    if image is None:
        return None
    try:
        written = images.written(image, content)
    except BadInput as error:
        return ImageFit(str(error))
    roundings: dict[str, tuple[tuple[tuple[int, int], ...], float]] = {}
    for rounding in written.roundings:
        cells, most = roundings.get(rounding.table, ((), 0.0))
        roundings[rounding.table] = (
            (*cells, (rounding.i, rounding.j)),
            max(most, abs(rounding.kept - rounding.wanted)),
        )
    return ImageFit("", roundings)


def _seen(job: Job, round_: Round, logs: list[LogFile], table: Table) -> VisitedCells:
    """What the logs say of a table, without the knock that a person holds to be noise."""
    visited = visits(logs, table).visited
    noise = knock_decisions.noise_cells(job, round_, table.id)
    if not noise:
        return visited
    retard = visited.retard.copy()
    retard[cells_mask(tuple(sorted(noise)), table.shape, default=False)] = 0.0
    return replace(visited, retard=retard)


def _duty(job: Job, logs: list[LogFile], draft: Draft, base: Calibration, content: Calibration) -> Duty | None:
    if not logs:
        return None
    file = str(job.car.file)
    more = (draft.base.calibration.content_hash, draft.calibration.content_hash, file)
    return from_logs("duty", logs, more, lambda: (duty_of(logs, base, content, CarFile.loads(file)),))[0]


def _reached(steps: list[Event]) -> dict[str, tuple[tuple[float, ...], tuple[float, ...]]]:
    """What each clamp's newest step says the car reached before boost; an undone step says it as well."""
    found: dict[str, tuple[tuple[float, ...], tuple[float, ...]]] = {}
    for step in steps:
        if step.kind == jobs.CLAMP:
            told = json.loads(step.inputs)
            speeds = [one for one in told.get("speeds", []) if one.get("samples")]
            found[str(told.get("table", ""))] = (
                tuple(float(speed["speed"]) for speed in speeds),
                tuple(float(speed["reached"]) for speed in speeds),
            )
    return found


def review_work(job: Job, round_: Round) -> ReviewWork:
    """Everything the Review station shows of a round under work."""
    draft = drafts.current(job)
    base, content = calibrations.content(draft.base.calibration), calibrations.content(draft.calibration)
    change = difference(base, content)
    logs = jobs.spark_logs(round_)
    setup = setups.active(job)
    found = draft_steps.steps(job)
    steps = draft_steps.as_steps(found)
    seen = {table.table.id: _seen(job, round_, logs, table.table) for table in change.tables} if logs else {}
    reviewed = ReviewedDraft(
        base,
        content,
        seen,
        _duty(job, logs, draft, base, content) if change.tables else None,
        setup.name if setup is not None else "",
        image_fit(images.of_job(job), content),
        bool(logs),
        {table.table.id: by_hand(table.table, steps) for table in change.tables},
        CarFile.loads(str(job.car.file)).automatic,
        _reached(found),
    )
    concerns = review(reviewed)
    return ReviewWork(draft, base, content, change, reviewed, concerns, answers.of(job, concerns), found, steps)
