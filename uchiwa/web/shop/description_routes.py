"""A controller's description (A2L) on the shelf: characteristics chosen, and a layout made of them."""

from __future__ import annotations

from pathlib import PurePath

from fastapi import Request
from fastapi.responses import RedirectResponse, Response
from pydantic import ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.shelf.contents import ShelfKind
from uchiwa.core.tables.a2l.assignment import Assignment, Input, TakenCharacteristic
from uchiwa.core.tables.a2l.description import Description
from uchiwa.core.tables.a2l.layout import DescribedLayout, Extent, layout_from
from uchiwa.core.tables.a2l.suggestion import suggested
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.image.layout_json import ChecksumJson
from uchiwa.core.tables.interchange.calibration_json import complaint
from uchiwa.store import shelf
from uchiwa.store.database import unit_of_work
from uchiwa.store.shelf import EntryDescription
from uchiwa.web.pages import say
from uchiwa.web.requests.sent_file import sent_file
from uchiwa.web.requests.session import Fields, FromOurForm, Person
from uchiwa.web.routing import router as new_router
from uchiwa.web.shop.shelf_routes import entry_of

router = new_router()
_LARGEST = 34_000_000
_CHECKSUM = ("checksum_kind", "checksum_from", "checksum_to", "checksum_at")


def said_in(form: dict[str, str], description: Description) -> Assignment:
    """What a person said in the form: `take.NAME` is a role, `input.NAME` a quantity; all that is likely if nothing was.

    Raises:
        BadInput: a checksum is half said.
    """
    take = {
        key.removeprefix("take."): TakenCharacteristic(role=role)
        for key, role in form.items()
        if key.startswith("take.") and role and key.removeprefix("take.") in description.by_name
    }
    likely = suggested(description)
    inputs = dict(likely.inputs)
    inputs |= {
        key.removeprefix("input."): Input(quantity=quantity)
        for key, quantity in form.items()
        if key.startswith("input.") and quantity
    }
    return Assignment(take=take or likely.take, inputs=inputs, checksums=_checksums(form))


def _checksums(form: dict[str, str]) -> list[ChecksumJson]:
    given = [form.get(key, "").strip() for key in _CHECKSUM]
    if not any(given[1:]):
        return []
    kind, low, high, at = given
    try:
        return [ChecksumJson.model_validate({"kind": kind, "ranges": [[low, high]], "address": at})]
    except ValidationError as error:
        found = complaint(error)
        raise BadInput(found.what, where="the checksum", advice="write addresses such as 0x8000") from None


@router.post("/shelf/{entry_id}/layout", dependencies=[FromOurForm])
def make(request: Request, user: Person, entry_id: int, form: Fields) -> Response:
    """Make a layout of what was chosen, and put it on the shelf."""
    given = {key: value for key, value in form.items() if isinstance(value, str)}
    image = sent_file(form, "image", _LARGEST)
    with unit_of_work():
        entry = entry_of(user, entry_id, ShelfKind.DESCRIPTION)
        description = shelf.content(entry).read
        if not isinstance(description, Description):
            raise BadInput("this is no description", advice="choose one on the shelf")
        said = said_in(given, description)
        made = layout_from(description, said, _extent(*image, description))
        name = given.get("name", "").strip() or made.layout.title
        kept = shelf.put(
            user, ShelfKind.LAYOUT, layout_json.dumps(made.layout).encode(), f"{made.layout.id}.json",
            EntryDescription(name, _words(made), origin=f"from the description “{entry.name}”"),
        )  # fmt: skip
    left = f" {len(made.left_out)} could not be held; the layout’s words say which." if made.left_out else ""
    say(request, f"The layout “{kept.name}” is on the shelf.{left}")
    return RedirectResponse(f"/shelf/{kept.id}", 303)


def _words(made: DescribedLayout) -> str:
    """What to know of a layout that was made: what it does not hold, and that nothing says its checksums."""
    told = [f"Left out: {piece.name}, {piece.why}." for piece in made.left_out]
    told += [f"{note[:1].upper()}{note[1:]}." for note in made.notes]
    if not made.layout.checksums:
        told.append("No checksum is known: a car that checks one will refuse an image written by this layout.")
    return " ".join(told)[:1000]


def _extent(data: bytes, name: str, description: Description) -> Extent | None:
    """Of an image that was sent with the form."""
    if not data:
        return None
    start = min((segment.address for segment in description.segments), default=0)
    memory, _ = read_image(data, PurePath(name).name, start)
    return Extent(memory.start, memory.end - memory.start)
