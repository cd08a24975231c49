"""The calibrations of a job that can be held against each other: revisions, the draft, steps, and files."""

from __future__ import annotations

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
class Side:
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
    found += [(f"revision:{one.number}", f"revision {one.number}") for one in revisions.of_job(job)]
    steps = [one for one in draft_steps.steps(job) if not one.put_back]
    found += [(f"step:{one.id}", f"after: {one.sentence[:70]}") for one in reversed(steps[-30:])]
    known = shelf.of_shop(job.shop_id, (ShelfKind.CALIBRATION,))
    return found + [(f"shelf:{one.id}", f"the shelf: {one.name[:60]}") for one in known[:_MOST_OF_SHELF]]


def side(job: Job, name: str) -> Side:
    """One side by its name.

    Raises:
        BadInput: there is no such thing in this job.
    """
    kind, _, written = name.partition(":")
    number = whole_number(written)
    if name == DRAFT:
        return Side(name, "the draft", calibrations.content(drafts.current(job).calibration))
    if number is not None:
        match kind:
            case "revision":
                revision = revisions.numbered(job, number)
                if revision is not None:
                    return Side(name, f"revision {number}", calibrations.content(revision.calibration))
            case "step" | "before":
                event = Event.get_or_none(Event.id == number, Event.job == job)
                stored = None if event is None else event.after if kind == "step" else event.before
                if event is not None and stored is not None:
                    when = "after" if kind == "step" else "before"
                    return Side(name, f"{when}: {event.sentence[:70]}", calibrations.content(stored))
            case "shelf":
                entry = shelf.find(job.shop_id, number, ShelfKind.CALIBRATION)
                content = shelf.content(entry).read if entry is not None else None
                if entry is not None and isinstance(content, Calibration):
                    own = calibrations.content(drafts.current(job).calibration)
                    laid, apart = compared_with(own, content)
                    return Side(name, f"“{entry.name}” of the shelf", laid, apart)
            case "file":
                kept = StoredCalibration.get_or_none(
                    StoredCalibration.id == number, StoredCalibration.shop == job.shop_id
                )
                if kept is not None:
                    content = calibrations.content(kept)
                    return Side(name, f"the file “{content.title}”", content)
    raise BadInput("there is no such calibration in this job", where=name[:40], advice="choose one from the lists")


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
