"""The shelf: what the shop starts from. Put there from a file or a job, looked at, described, taken off."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, replace
from pathlib import PurePath
from typing import Annotated, Any
from urllib.parse import urlencode

from fastapi import Depends, Form, HTTPException, Query, Request, UploadFile
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers.bus.database import BusDatabase
from uchiwa.core.shelf.contents import TITLES, ShelfKind
from uchiwa.core.tables.a2l.description import Description
from uchiwa.core.tables.image.layout import Layout
from uchiwa.core.tables.table import Calibration
from uchiwa.services import shelf as services
from uchiwa.store import briefs, channels, jobs, kept_bins, revisions, setups, shelf
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import ShelfEntry, User
from uchiwa.store.shelf import EntryDescription
from uchiwa.web.pages import render, say
from uchiwa.web.requests.attachment import as_file
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import job_of, locked_job
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.characteristic_list import characteristic_list
from uchiwa.web.shop.image_map import image_map

router = new_router()
_HERE = "/shelf"
_ONE = _HERE + "/{entry_id}"
Words = Annotated[str, Form(max_length=1000)]
Name = Annotated[str, Form(max_length=120)]
Tags = Annotated[str, Form(max_length=200)]


def _said(name: Name = "", words: Words = "", tags: Tags = "") -> EntryDescription:
    return EntryDescription(name, words, tags)


Said = Annotated[EntryDescription, Depends(_said)]


@dataclass(frozen=True)
class _Characteristics:
    """Which of a description's characteristics are listed."""

    q: Annotated[str, Query(max_length=100)] = ""
    group: Annotated[str, Query(max_length=200)] = ""
    skip: Annotated[int, Query(ge=0, le=1_000_000)] = 0


def entry_of(user: User, entry_id: int, kind: ShelfKind | None = None) -> ShelfEntry:
    """An entry of the person's shop.

    Raises:
        HTTPException: 404, for another shop's as for one that does not exist.
    """
    found = shelf.find(user.shop_id, entry_id, kind)
    if found is None:
        raise HTTPException(404)
    return found


def outcome_words(entry: ShelfEntry) -> str:
    """How well the car of an entry ended, in a few words."""
    told = json.loads(entry.outcome)
    parts = []
    if told.get("rounds"):
        parts.append(f"{told['rounds']} round{'s' if told['rounds'] != 1 else ''}")
    if "error_percent" in told:
        parts.append(f"{told['error_percent']:.1f} % error left")
    if "within_percent" in told:
        parts.append(f"{told['within_percent']} % of cells within ±2 %")
    if "knock" in told:
        parts.append(
            "no knock" if not told["knock"] else f"knock in {told['knock']} log{'s' if told['knock'] != 1 else ''}"
        )
    return ", ".join(parts)


def _page(request: Request, user: User, *, values: dict[str, str], problem: str = "", status: int = 200) -> Response:
    kind = values.get("kind", "")
    chosen = (ShelfKind(kind),) if kind in set(ShelfKind) else ()
    with unit_of_work():
        entries = shelf.of_shop(user.shop_id, chosen, values.get("q", ""), values.get("tag", ""))
        every = shelf.of_shop(user.shop_id)
        also = _also(user) if not chosen and not values.get("q") and not values.get("tag") else []
    groups = [
        (shelf_kind, *TITLES[shelf_kind], [entry for entry in entries if entry.kind == shelf_kind.value])
        for shelf_kind in ShelfKind
        if not chosen or shelf_kind in chosen
    ]
    tags = sorted({tag for entry in every for tag in shelf.tags_of(entry.tags)})
    return render(
        request, "shelf.html", user, status=status, groups=groups, found=len(entries), total=len(every), tags=tags, also=also,
        values=values, problem=problem, outcome_words=outcome_words, tags_of=shelf.tags_of, kinds=TITLES,
    )  # fmt: skip


def _also(user: User) -> list[tuple[str, str, list[str]]]:
    """What the shop keeps by name elsewhere: words, address, names."""
    own = [setup.name for setup in setups.of_shop(user.shop)]
    return [
        ("Briefs", "chosen on the Brief page of a round", [pattern.name for pattern in briefs.patterns(user.shop_id)]),
        ("Bins", "chosen on the Bins page of a round", [bin_.name for bin_ in kept_bins.of_shop(user.shop_id)]),
        (
            "Computed channels",
            "/shop/channels",
            [channel.title or channel.id for channel in channels.of_shop(user.shop_id)],
        ),
        ("Temporary setups", "chosen on a job’s page of setups", own),
    ]


@router.get(_HERE)
def page(
    request: Request,
    user: Person,
    kind: Annotated[str, Query(max_length=20)] = "",
    q: Annotated[str, Query(max_length=100)] = "",
    tag: Annotated[str, Query(max_length=40)] = "",
) -> Response:
    """All of it, or what is searched for."""
    return _page(request, user, values={"kind": kind, "q": q, "tag": tag})


@router.post(_HERE, dependencies=[FromOurForm])
def add(
    request: Request,
    user: Person,
    file: UploadFile,
    said: Said,
    origin: Annotated[str, Form(max_length=300)] = "",
) -> Response:
    """Put a file on the shelf; what was typed stays if something is wrong."""
    about = replace(said, origin=origin)
    typed = {"name": about.name, "words": about.words, "tags": about.tags, "origin": origin}
    data, file_name = file.file.read(services.LARGEST + 1), PurePath(file.filename or "file").name
    try:
        with unit_of_work():
            entry = services.put_file(user, data, file_name, about)
    except BadInput as error:
        return _page(request, user, values=typed, problem=str(error), status=400)
    say(request, f"“{entry.name}” is on the shelf.")
    return RedirectResponse(f"/shelf/{entry.id}", 303)


@router.get(_ONE)
def entry(request: Request, user: Person, entry_id: int, of: Annotated[_Characteristics, Depends()]) -> Response:
    """One thing on the shelf."""
    with unit_of_work():
        return _entry_page(request, user, entry_of(user, entry_id), characteristics=asdict(of))


def _entry_page(
    request: Request,
    user: User,
    found: ShelfEntry,
    *,
    characteristics: dict[str, Any],
    problem: str = "",
) -> Response:
    status = 400 if problem else 200
    content = shelf.content(found)
    values: dict[str, Any] = {
        "entry": found, "kind": TITLES[content.kind], "outcome": outcome_words(found), "problem": problem, "read": content.read,
        "tags": shelf.tags_of(found.tags),
    }  # fmt: skip
    match content.read:
        case Calibration():
            recent = jobs.recent(user.shop_id, 60)
            return render(request, "shelf_calibration.html", user, status=status, jobs=recent, **values)
        case Layout() as layout:
            return render(request, "shelf_layout.html", user, status=status, picture=image_map(layout, ()), **values)
        case Description() as description:
            listed = characteristic_list(description, **characteristics)
            return render(request, "shelf_description.html", user, status=status, listed=listed, **values)
        case BusDatabase() as database:
            messages = sorted(database.messages.values(), key=lambda message: message.identifier)
            return render(request, "shelf_bus.html", user, status=status, messages=messages, **values)
        case CarFile() as car:
            facts = car.model_dump(mode="json", exclude_defaults=True)
            return render(request, "shelf_car.html", user, status=status, facts=facts, **values)


@router.get(_ONE + "/file")
def file(user: Person, entry_id: int) -> Response:
    """The file as it was put there."""
    with unit_of_work():
        found = entry_of(user, entry_id)
        data = shelf.file_of(found)
    return as_file(data, found.file_name or f"{found.name}.txt", "application/octet-stream")


@router.post(_ONE + "/describe", dependencies=[FromOurForm])
def describe(request: Request, user: Person, entry_id: int, said: Said) -> Response:
    """Change its name, words and tags."""
    with unit_of_work():
        shelf.describe(entry_of(user, entry_id), said.name, said.words, said.tags)
    say(request, "Saved.")
    return RedirectResponse(f"/shelf/{entry_id}", 303)


@router.post(_ONE + "/drop", dependencies=[FromOurForm])
def drop(request: Request, user: Person, entry_id: int, sure: Annotated[bool, Form()] = False) -> Response:
    """Take it off the shelf."""
    if not sure:
        raise BadInput("it is taken off the shelf only when you say so", advice="tick the box")
    with unit_of_work():
        found = entry_of(user, entry_id)
        shelf.drop(found)
    say(request, f"“{found.name}” is off the shelf. What was made from it stays.")
    return RedirectResponse(_HERE, 303)


@router.get(_ONE + "/compare")
def compare(user: Person, entry_id: int, job: int) -> Response:
    """Hold it against a job's draft."""
    with unit_of_work():
        found, other = entry_of(user, entry_id, ShelfKind.CALIBRATION), job_of(user, job)
        number = jobs.latest_number(other.id)
    query = urlencode({"a": f"shelf:{found.id}", "b": "draft"})
    return RedirectResponse(f"/jobs/{other.id}/rounds/{number}/compare?{query}", 303)


def _kept(request: Request, entry: ShelfEntry) -> Response:
    say(request, f"“{entry.name}” is on the shelf.")
    return RedirectResponse(f"/shelf/{entry.id}", 303)


@router.post("/jobs/{job_id}/revisions/{number}/shelf", dependencies=[FromOurForm])
def put_revision(request: Request, user: Person, job_id: int, number: int, said: Said) -> Response:
    """Put a frozen revision on the shelf."""
    with unit_of_work():
        job = locked_job(user, job_id)
        revision = revisions.numbered(job, number)
        if revision is None:
            raise HTTPException(404)
        return _kept(request, services.put_revision(user, job, revision, said))


@router.post("/jobs/{job_id}/car/shelf", dependencies=[FromOurForm])
def put_car(request: Request, user: Person, job_id: int, name: Name = "") -> Response:
    """Put a job's car file on the shelf."""
    with unit_of_work():
        return _kept(request, services.put_car_file(user, locked_job(user, job_id), name))


@router.post("/jobs/{job_id}/image/shelf", dependencies=[FromOurForm])
def put_layout(request: Request, user: Person, job_id: int, name: Name = "") -> Response:
    """Put the layout of a job's image on the shelf."""
    with unit_of_work():
        return _kept(request, services.put_layout(user, locked_job(user, job_id), name))
