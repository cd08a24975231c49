"""The calibrations of a job that can be held against each other: revisions, the draft, steps, and files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.shelf.carrying import compared_with
from uchiwa.core.shelf.contents import ShelfKind
from uchiwa.core.tables.image.content import read_calibration
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.core.tables.table import Calibration
from uchiwa.core.whole_number import whole_number
from uchiwa.store import calibrations, draft_steps, drafts, images, revisions, shelf
from uchiwa.store.models import Event, Job, StoredCalibration

DRAFT = "draft"
_MOST_OF_SHELF = 60


@dataclass(frozen=True, eq=False)
class ComparedSide:
    """One of two that are compared.

    Attributes:
        name: as it stands in addresses: `draft`, `revision:2`, `step:17`, `before:17`, `shelf:3`, `file:4`.
        words: as people say it.
        content: the calibration.
        apart: what of it cannot be compared, or only on other breakpoints, as sentences.
    """

    name: str
    words: str
    content: Calibration
    apart: tuple[str, ...] = ()


def choices(job: Job) -> list[tuple[str, str]]:
    """What can be chosen, as (name, words): the draft, all revisions, and the contents after each step of the draft."""
    found = [(DRAFT, "the draft")]
    found += [(f"revision:{revision.number}", f"revision {revision.number}") for revision in revisions.of_job(job)]
    steps = [step for step in draft_steps.steps(job) if not step.put_back]
    found += [(f"step:{step.id}", f"after: {step.sentence[:70]}") for step in reversed(steps[-30:])]
    known = shelf.of_shop(job.shop_id, (ShelfKind.CALIBRATION,))
    return found + [(f"shelf:{entry.id}", f"the shelf: {entry.name[:60]}") for entry in known[:_MOST_OF_SHELF]]


def side(job: Job, name: str) -> ComparedSide:
    """One side by its name.

    Raises:
        BadInput: there is no such thing in this job.
    """
    if name == DRAFT:
        return ComparedSide(name, "the draft", calibrations.content(drafts.current(job).calibration))
    kind, _, written = name.partition(":")
    number, find = whole_number(written), _FINDERS.get(kind)
    found = find(job, number) if find is not None and number is not None else None
    if found is None:
        raise BadInput("there is no such calibration in this job", where=name[:40], advice="choose one from the lists")
    return ComparedSide(name, *found)


_Found = tuple[str, Calibration] | tuple[str, Calibration, tuple[str, ...]] | None


def _of_revision(job: Job, number: int) -> _Found:
    revision = revisions.numbered(job, number)
    return None if revision is None else (f"revision {number}", calibrations.content(revision.calibration))


def _after_step(job: Job, number: int) -> _Found:
    event = Event.get_or_none(Event.id == number, Event.job == job)
    if event is None or event.after is None:
        return None
    return f"after: {event.sentence[:70]}", calibrations.content(event.after)


def _before_step(job: Job, number: int) -> _Found:
    event = Event.get_or_none(Event.id == number, Event.job == job)
    if event is None or event.before is None:
        return None
    return f"before: {event.sentence[:70]}", calibrations.content(event.before)


def _of_shelf(job: Job, number: int) -> _Found:
    entry = shelf.find(job.shop_id, number, ShelfKind.CALIBRATION)
    content = shelf.content(entry).read if entry is not None else None
    if entry is None or not isinstance(content, Calibration):
        return None
    laid, apart = compared_with(calibrations.content(drafts.current(job).calibration), content)
    return f"“{entry.name}” of the shelf", laid, apart


def _of_file(job: Job, number: int) -> _Found:
    kept = StoredCalibration.get_or_none(StoredCalibration.id == number, StoredCalibration.shop == job.shop_id)
    if kept is None:
        return None
    content = calibrations.content(kept)
    return f"the file “{content.title}”", content


_FINDERS: dict[str, Callable[[Job, int], _Found]] = {
    "revision": _of_revision,
    "step": _after_step,
    "before": _before_step,
    "shelf": _of_shelf,
    "file": _of_file,
}


def read_file(job: Job, data: bytes, name: str) -> Calibration:
    """A calibration from a file: JSON, the values of a CDF in the job's tables, or an image that its own layout describes.

    Raises:
        BadInput: it is neither; says what is wrong.
    """
    if data.lstrip()[:1] == b"{":
        return calibration_json.loads(data, name)
    if cdf.is_cdf(data):
        return cdf.loads(data, name, calibrations.content(drafts.current(job).calibration)).calibration
    image = images.of_job(job)
    if image is None:
        raise BadInput(
            "this is not calibration JSON, and the job has no layout to read an image with",
            where=name,
            advice="give the job its controller image first",
        )
    layout = images.layout_from(image.layout)
    return read_calibration(read_image(data, name, layout.base)[0], layout, name)
