"""Taking on a car: from the shelf, a file or a read-out image, with stated changes, each a step of revision 0's history."""

from __future__ import annotations

from dataclasses import dataclass, field

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.shelf.carrying import CarriedStep, Changes, changed, onto
from uchiwa.core.shelf.contents import ShelfKind, read_content
from uchiwa.core.tables.image.content import read_calibration, write_calibration
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.image.layout_json import loads as layout_loads
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.core.tables.table import Calibration
from uchiwa.services import shelf as shelf_services
from uchiwa.services.languages import LANGUAGES
from uchiwa.store import calibrations, customers, events, images, jobs, revisions, shelf
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, ShelfEntry, User

CARRY = "carry"


@dataclass(frozen=True)
class CarOffered:
    """What is said of a car that is taken on.

    Attributes:
        customer, car, details, email: of whose it is; without an address no mail is sent.
        start_id: the map on the shelf that it starts from, if any.
        car_file_id: the car file on the shelf, if any.
        file, file_name: the car's own calibration or image; empty for none.
        layout, layout_name: of the image; empty if one on the shelf is to be found.
        changes: from the car that the map is of.
        once: names the form.
        language: of the customer's pages.
    """

    customer: str
    car: str
    details: str = ""
    email: str = ""
    start_id: int | None = None
    car_file_id: int | None = None
    file: bytes = b""
    file_name: str = "calibration"
    layout: bytes = b""
    layout_name: str = "layout"
    changes: Changes = field(default_factory=Changes)
    once: str = ""
    language: str = ""


@dataclass(frozen=True, eq=False)
class StartingPoint:
    """What a car starts with.

    Attributes:
        own: its own calibration, if it gave one.
        layout: document of its image's layout; empty without an image.
        layout_entry: the entry of the shelf that it was found by.
        first: what the steps begin from, and its origin in words.
        steps: what was done to it.
        notes: what was not carried over, as sentences.
        car_file: of the shelf, with the changes; None to go by the calibration.
    """

    own: Calibration | None
    layout: str
    layout_entry: ShelfEntry | None
    first: Calibration
    origin: str
    steps: tuple[CarriedStep, ...]
    notes: tuple[str, ...]
    car_file: CarFile | None

    @property
    def from_the_car(self) -> bool:
        """Whether the car runs it already: it is its own, as it came."""
        return self.own is not None and not self.steps

    @property
    def content(self) -> Calibration:
        """What the car gets as revision 0."""
        return self.steps[-1].content if self.steps else self.first


def start_of(author: User, offered: CarOffered) -> StartingPoint:
    """What a car would start with; nothing is kept. Call within a transaction.

    Raises:
        BadInput: a file is faulty, nothing says what it starts from, or a change cannot be made.
    """
    own, layout, entry = _own(author, offered)
    chosen = _entry(author, offered.start_id, ShelfKind.CALIBRATION)
    map_ = shelf.content(chosen).read if chosen is not None else None
    steps: list[CarriedStep] = []
    notes: tuple[str, ...] = ()
    if isinstance(map_, Calibration) and chosen is not None:
        if own is None:
            first, origin = map_, f"“{chosen.name}” of the shelf"
        else:
            first, origin = own, f"its own “{own.title}”"
            step, notes = onto(own, map_)
            steps.append(step)
    elif own is not None:
        first, origin = own, f"“{own.title}”"
    else:
        advice = "choose a map of the shelf, or the car’s own calibration or image"
        raise BadInput("nothing says what the car starts from", advice=advice)
    steps += changed(steps[-1].content if steps else first, offered.changes)
    if layout and steps:
        _must_go_into(layout, offered, steps[-1].content)
    return StartingPoint(own, layout, entry, first, origin, tuple(steps), notes, _car_file(author, offered))


def _must_go_into(layout: str, offered: CarOffered, content: Calibration) -> None:
    """Raises BadInput if the image cannot hold what the car would start with."""
    described = layout_loads(layout)
    memory, _ = read_image(offered.file, offered.file_name, described.base)
    write_calibration(memory, described, content, offered.file_name)


def _own(author: User, offered: CarOffered) -> tuple[Calibration | None, str, ShelfEntry | None]:
    """The car's own calibration, and the layout if it came as an image."""
    if not offered.file:
        if offered.layout:
            raise BadInput("a layout was given without an image", where=offered.layout_name, advice="give both")
        return None, "", None
    data, name = offered.file, offered.file_name
    if offered.layout:
        text = _as_text(offered.layout, offered.layout_name)
        described = layout_loads(text, offered.layout_name)
        return read_calibration(read_image(data, name, described.base)[0], described, name), text, None
    if data.lstrip(b"\xef\xbb\xbf \r\n\t").startswith(b"{"):
        return calibration_json.loads(data.decode("utf-8-sig", "replace"), name), "", None
    if cdf.is_cdf(data):
        found = read_content(data, name).read
        return (found, "", None) if isinstance(found, Calibration) else (None, "", None)
    entry, layout = shelf_services.layout_for(author.shop_id, data, name)
    content = read_calibration(read_image(data, name, layout.base)[0], layout, name)
    return content, shelf.file_of(entry).decode(), entry


def _as_text(data: bytes, name: str) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise BadInput("this is not text", where=name, advice="choose a layout as JSON") from None


def _entry(author: User, entry_id: int | None, kind: ShelfKind) -> ShelfEntry | None:
    if entry_id is None:
        return None
    found = shelf.find(author.shop_id, entry_id, kind)
    if found is None:
        raise BadInput("this is not on the shelf any more", advice="choose another")
    return found


def _car_file(author: User, offered: CarOffered) -> CarFile | None:
    entry = _entry(author, offered.car_file_id, ShelfKind.CAR)
    found = shelf.content(entry).read if entry is not None else None
    file = found if isinstance(found, CarFile) else None
    if offered.changes.pressure_sensor:
        base = file.model_dump(mode="json") if file is not None else {}
        file = CarFile.read(base | {"pressure_sensor": offered.changes.pressure_sensor})
    return file


def take_on(author: User, offered: CarOffered) -> Job:
    """Take on a car; a form that is sent twice makes one job.

    Raises:
        BadInput: something is wanting or faulty; nothing is kept.
    """
    if not offered.customer.strip() or not offered.car.strip():
        raise BadInput("customer and car are both needed", advice="fill them in")
    with unit_of_work():
        start = start_of(author, offered)
    try:
        with unit_of_work():
            job = jobs.of_form(author.shop_id, offered.once)
            return job if job is not None else _keep(author, offered, start)
    except jobs.SentTwiceError:
        with unit_of_work():
            job = jobs.of_form(author.shop_id, offered.once)
        if job is None:
            raise
        return job


def _keep(author: User, offered: CarOffered, start: StartingPoint) -> Job:
    file = start.car_file
    if file is not None:
        told = jobs.car_of(start.content).model_dump(exclude_defaults=True, mode="json")
        kept = file.model_dump(exclude_defaults=True, mode="json")
        file = CarFile.read({**told, **kept, **{key: told[key] for key in _BY_MAP if key in told}})
    job = jobs.create(
        author, offered.customer.strip(), offered.car.strip(), offered.details.strip(), start.content, file, offered.once,
        came_with=None if start.from_the_car else start.first, origin=start.origin,
    )  # fmt: skip
    round_ = jobs.rounds(job)[0]
    before = calibrations.keep(author.shop_id, start.first)
    for step in start.steps:
        after = calibrations.keep(author.shop_id, step.content)
        events.record(job, CARRY, step.sentence, author=author, round_=round_, before=before, after=after)
        before = after
    if offered.changes.pressure_sensor:
        words = f"Pressure sensor of this car: {offered.changes.pressure_sensor} (car file)"
        events.record(job, CARRY, words, author=author, round_=round_)
    for note in start.notes:
        events.record(job, CARRY, note[:1].upper() + note[1:], author=author, round_=round_)
    if offered.email:
        customers.set_email(job.car.customer, offered.email)
    if offered.language in LANGUAGES:
        customers.set_language(job.car.customer, offered.language)
    if start.layout:
        images.keep(job, author, start.layout, offered.file_name, offered.file)
        revision, image = revisions.numbered(job, 0), images.of_job(job)
        if not start.from_the_car and revision is not None and image is not None:
            images.keep_for(revision, image, start.content)
    return job


_BY_MAP = ("displacement", "cylinders", "injector_flow", "injector_dead_time", "meter", "air_model")
"""What the map itself says of the car; a car file of the shelf, which is of another car, does not go before it."""
