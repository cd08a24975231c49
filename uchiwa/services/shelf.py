"""Putting things on the shelf and starting from them: in one step from a job, or from a file."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.shelf.contents import ShelfKind, car_document, read_content
from uchiwa.core.tables.image.content import verify
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.image.layout import Layout
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Calibration
from uchiwa.store import calibrations, images, jobs, shelf
from uchiwa.store.models import Job, Revision, ShelfEntry, User
from uchiwa.store.shelf import EntryDescription

LARGEST = 64 * 2**20


def put_file(author: User, data: bytes, file_name: str, about: EntryDescription) -> ShelfEntry:
    """Put a file on the shelf; what it is, is seen from what stands in it.

    Raises:
        BadInput: it is nothing that the shelf holds, or faulty, or there is one of this kind and name.
    """
    if len(data) > LARGEST:
        raise BadInput(f"a file on the shelf may have up to {LARGEST // 2**20} MiB", where=file_name)
    found = read_content(data, file_name)
    name = about.name.strip() or found.title or file_name
    kept = data
    if found.kind is ShelfKind.CALIBRATION and isinstance(found.read, Calibration):
        kept = calibration_json.dumps(found.read).encode()
    return shelf.put(
        author, found.kind, kept, file_name, replace(about, name=name, origin=about.origin or "from a file")
    )


def put_revision(author: User, job: Job, revision: Revision, about: EntryDescription) -> ShelfEntry:
    """Put a frozen revision on the shelf, with how well its car ended.

    Raises:
        BadInput: it has no name, or there is one of this name.
    """
    content = calibrations.content(revision.calibration)
    name = about.name.strip() or f"{job.car.title}, revision {revision.number}"
    told = replace(
        about, name=name, origin=f"{job.car.title} of {job.car.customer.name}, revision {revision.number}",
        job_id=job.id, revision=revision.number, outcome=outcome_of(job),
    )  # fmt: skip
    return shelf.put(
        author, ShelfKind.CALIBRATION, calibration_json.dumps(content).encode(), f"{content.id}.json", told
    )


def put_car_file(author: User, job: Job, name: str) -> ShelfEntry:
    """Put a job's car file on the shelf."""
    origin = f"{job.car.title} of {job.car.customer.name}"
    about = EntryDescription(name.strip() or job.car.title, origin=origin, job_id=job.id)
    return shelf.put(author, ShelfKind.CAR, car_document(CarFile.loads(job.car.file)), "car.json", about)


def put_layout(author: User, job: Job, name: str) -> ShelfEntry:
    """Put the layout of a job's image on the shelf.

    Raises:
        BadInput: the job has no image.
    """
    image = images.of_job(job)
    if image is None:
        raise BadInput("this job has no controller image, and so no layout", advice="give it one first")
    layout = images.layout_from(image.layout)
    origin = f"{job.car.title} of {job.car.customer.name}"
    about = EntryDescription(name.strip() or layout.title, origin=origin, job_id=job.id)
    return shelf.put(author, ShelfKind.LAYOUT, image.layout.encode(), f"{layout.id}.json", about)


def outcome_of(job: Job) -> dict[str, Any]:
    """How well a job's car stands: rounds, the error left, the share of cells within it."""
    every = jobs.rounds(job)
    measured = [round_ for round_ in every if round_.error_percent is not None]
    found: dict[str, Any] = {"rounds": len([round_ for round_ in every if round_.returned_at is not None])}
    if measured:
        last = measured[-1]
        found["error_percent"] = round(float(last.error_percent or 0.0), 2)
        if last.cells:
            found["within_percent"] = round(100 * (last.cells_within or 0) / last.cells)
        found["knock"] = jobs.knock_seen(last)
    return found


def layout_for(shop_id: int, data: bytes, name: str) -> tuple[ShelfEntry, Layout]:
    """The layout on the shelf that an image is of, by size, identity and checksums.

    Raises:
        BadInput: none fits; says of the nearest why not.
    """
    nearest: BadInput | None = None
    entries = shelf.of_shop(shop_id, (ShelfKind.LAYOUT,))
    for entry in entries:
        layout = shelf.content(entry).read
        if not isinstance(layout, Layout):
            continue
        try:
            memory, _ = read_image(data, name, layout.base)
            verify(memory, layout, name)
        except BadInput as error:
            if nearest is None or "identity" not in error.what:
                nearest = BadInput(f"{entry.name}: {error.what}", where=name, advice=error.advice)
            continue
        if layout.identities:
            return entry, layout
    if nearest is not None:
        raise nearest
    raise BadInput(
        "no layout on the shelf has an identity to know this image by",
        where=name,
        advice="give the layout with it, or put it on the shelf",
    )
