"""What a person says to an A2L file that it does not say itself: which characteristics are taken, and as what."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.tables.image.layout_json import Address, ChecksumJson, IdentityJson, hexadecimal
from uchiwa.core.tables.interchange.calibration_json import Identifier, Role, Words, complaint

FORMAT: Literal["uchiwa.assignment/1"] = "uchiwa.assignment/1"
Name = Annotated[str, Field(min_length=1, max_length=255)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class TakenCharacteristic(_Part):
    """A characteristic that is taken.

    Attributes:
        role: of the table, or of the constant.
        id: of the table or constant; made of its name if not given.
        title: in place of its long identifier.
        decimals: in place of its format's.
        unit: in place of its conversion's, where that is not one that is known.
    """

    role: Identifier = "other"
    id: Identifier | None = None
    title: Words | None = None
    decimals: Annotated[int, Field(ge=0, le=9)] | None = None
    unit: Annotated[str, Field(max_length=32)] | None = None


class Input(_Part):
    """What a measurement that is looked up along an axis is.

    Attributes:
        quantity: its id.
        unit: in place of its conversion's.
    """

    quantity: Identifier
    unit: Annotated[str, Field(max_length=32)] | None = None


class Assignment(_Part):
    """All that is said to a description.

    Attributes:
        id, title: of the layout; made of the module's name if not given.
        calibration: id and title of the calibrations read with it.
        base, size: address and bytes of the whole image, where neither the image nor the file's memory segments tell.
        take: characteristics by name.
        inputs: measurements by name.
        identity: bytes that an image must have, beside those that the file says.
        checksums: which A2L files do not describe.
    """

    format: Literal["uchiwa.assignment/1"] = FORMAT
    id: Identifier | None = None
    title: Words | None = None
    calibration: Identifier | None = None
    calibration_title: Words | None = None
    base: Address | None = None
    size: Annotated[int, BeforeValidator(hexadecimal), Field(ge=1)] | None = None
    take: Annotated[dict[Name, TakenCharacteristic], Field(max_length=2000)] = {}
    inputs: dict[Name, Input] = {}
    identity: list[IdentityJson] = []
    checksums: Annotated[list[ChecksumJson], Field(max_length=64)] = []


TABLE_ROLES: tuple[str, ...] = Role.__args__  # type: ignore[attr-defined]


def loads(text: str | bytes, name: str = "assignment") -> Assignment:
    """Read an assignment.

    Raises:
        BadInput: it is no JSON, or says something that is not known; says the path.
    """
    raw = read_json(text, where=name, advice="see docs/formats.md")
    try:
        return Assignment.model_validate(raw)
    except ValidationError as error:
        found = complaint(error)
        raise BadInput(found.what, where=f"{name}, {found.where}", advice=found.advice) from error
