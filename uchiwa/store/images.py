"""The image of a job's controller, and the images that revisions went out as."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from functools import lru_cache

import zstandard

from uchiwa.core.tables.image.content import WrittenImage, read_calibration, write_calibration
from uchiwa.core.tables.image.files import ImageFormat, image_format, read_image, write_image
from uchiwa.core.tables.image.layout import Layout
from uchiwa.core.tables.image.layout_json import loads
from uchiwa.core.tables.image.memory import Memory
from uchiwa.core.tables.table import Calibration
from uchiwa.store import events
from uchiwa.store.clock import now
from uchiwa.store.models import ControllerImage, Job, Revision, RevisionImage, User, blob


def pack(data: bytes) -> bytes:
    """A file, packed."""
    return zstandard.ZstdCompressor(level=9).compress(data)


def unpack(data: bytes) -> bytes:
    """What `pack` packed."""
    return zstandard.ZstdDecompressor().decompress(bytes(data))


@lru_cache(maxsize=32)
def layout_from(document: str, name: str = "layout") -> Layout:
    """A layout from its JSON; layouts never change, so read ones are remembered."""
    return loads(document, name)


def of_job(job: Job) -> ControllerImage | None:
    """The image of a job's controller, if one was given."""
    return ControllerImage.get_or_none(ControllerImage.job == job)


def memory_of(image: ControllerImage) -> tuple[Memory, Layout]:
    """Its bytes and its layout."""
    layout = layout_from(image.layout)
    return read_image(unpack(image.data), image.name, layout.base)[0], layout


def keep(job: Job, author: User, layout_document: str, name: str, data: bytes) -> Calibration:
    """Keep an image and its layout for a job, in place of any other; the calibration it holds.

    Raises:
        BadInput: the layout or the image is faulty, or they do not belong together; nothing is kept.
    """
    layout = layout_from(layout_document)
    memory, kind = read_image(data, name, layout.base)
    content = read_calibration(memory, layout, name)
    kept = ControllerImage
    kept.insert(
        job=job, name=name[:200], format=kind, layout=layout_document, data=blob(pack(data)), at=now()
    ).on_conflict(preserve=(kept.name, kept.format, kept.layout, kept.data, kept.at)).execute()
    words = ", ".join(identity.words for identity in layout.identities)
    sentence = f"Controller image {name} with layout “{layout.title}”{f', identity {words}' if words else ''}"
    events.record(job, "image", sentence, author=author, inputs={"sha256": hashlib.sha256(data).hexdigest()})
    return content


def drop(job: Job, author: User) -> None:
    """Forget the image of a job's controller; images of revisions stay."""
    if ControllerImage.delete().where(ControllerImage.job == job).execute():
        events.record(job, "image", "Controller image dropped", author=author)


def written(image: ControllerImage, calibration: Calibration) -> WrittenImage:
    """A calibration in the image of its job's controller.

    Raises:
        BadInput: the image cannot hold it; says which cell and what the nearest is.
    """
    memory, layout = memory_of(image)
    return write_calibration(memory, layout, calibration, image.name)


def keep_for(revision: Revision, image: ControllerImage, calibration: Calibration) -> RevisionImage:
    """Keep what a revision goes out as, in the format in which the image came."""
    kind = image_format(image.format)
    data = write_image(written(image, calibration).memory, kind)
    digest = hashlib.sha256(data).hexdigest()
    RevisionImage.insert(
        revision=revision, format=kind, content_hash=digest, layout=image.layout, data=blob(pack(data))
    ).execute()
    return RevisionImage.get(RevisionImage.revision == revision)


def of_revision(revision: Revision) -> RevisionImage | None:
    """The image that a revision went out as, if it did."""
    return RevisionImage.get_or_none(RevisionImage.revision == revision)


def file_of(image: RevisionImage, kind: ImageFormat | None = None) -> bytes:
    """It as a file, in its own format or another."""
    data = unpack(image.data)
    if kind is None or kind == image.format:
        return data
    return write_image(read_image(data, "image", layout_from(image.layout).base)[0], kind)


def of_revisions(revisions: Sequence[Revision]) -> frozenset[int]:
    """Ids of the revisions that went out as an image, in one query."""
    if not revisions:
        return frozenset()
    query = RevisionImage.select(RevisionImage.revision).where(
        RevisionImage.revision.in_([revision.id for revision in revisions])
    )
    return frozenset(image.revision_id for image in query)
