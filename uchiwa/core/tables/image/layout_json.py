"""Layouts as JSON (`uchiwa.layout/1`): reading, writing, and the schema."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.tables.image.checksum import WIDTHS, Checksum
from uchiwa.core.tables.image.layout import AxisPlace, ConstantPlace, Identity, Layout, Place, TablePlace
from uchiwa.core.tables.image.number import ByteOrder, Number, NumberType, Rational
from uchiwa.core.tables.interchange.calibration_json import Identifier, Role, Words, axis_of, complaint
from uchiwa.core.tables.table import Axis

FORMAT = "uchiwa.layout/1"
LARGEST = 16 * 2**20


def hexadecimal(value: Any) -> Any:
    """Addresses may be written as numbers or as text such as "0x8000"."""
    if isinstance(value, str):
        try:
            return int(value, 16) if value.lower().startswith("0x") else int(value)
        except ValueError:
            raise ValueError(f"“{value[:20]}” is not an address") from None
    return value


def _not_zero(value: float) -> float:
    if value == 0:
        raise ValueError("a scale of 0 loses every value")
    return value


def _turns_one_way(value: list[float]) -> list[float]:
    b, c, e, f = value
    if b * f == c * e:
        raise ValueError("this conversion gives one raw number for every value")
    return value


def _known_checksum(value: str) -> str:
    if value not in WIDTHS:
        raise ValueError(f"“{value}” is not a checksum; the kinds are {', '.join(WIDTHS)}")
    return value


Address = Annotated[int, BeforeValidator(hexadecimal), Field(ge=0, lt=2**32)]
Scale = Annotated[float, Field(allow_inf_nan=False), AfterValidator(_not_zero)]
Finite = Annotated[float, Field(allow_inf_nan=False)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class _Conversion(_Part):
    """Scale and offset, or `rational` [b, c, e, f]: raw = (b·value + c) / (e·value + f)."""

    byte_order: ByteOrder | None = None
    scale: Scale = 1.0
    offset: Finite = 0.0
    rational: Annotated[list[Finite], Field(min_length=4, max_length=4), AfterValidator(_turns_one_way)] | None = None


class _Numbers(_Conversion):
    address: Address
    type: NumberType


class AxisJson(_Conversion):
    """Breakpoints in the image (`address`, `type`, `count` …) or fixed (`breakpoints`)."""

    quantity: Identifier
    unit: Annotated[str, Field(max_length=32)]
    breakpoints: Annotated[list[Finite], Field(min_length=2, max_length=256)] | None = None
    address: Address | None = None
    type: NumberType | None = None
    count: Annotated[int, Field(ge=2, le=256)] | None = None


class TableJson(_Numbers):
    """A table: values row by row, or `by_columns`."""

    id: Identifier
    title: Words
    role: Role
    unit: Annotated[str, Field(max_length=32)]
    x: AxisJson
    y: AxisJson | None = None
    minimum: Finite | None = None
    maximum: Finite | None = None
    decimals: Annotated[int, Field(ge=0, le=9)] = 2
    by_columns: bool = False


class ConstantJson(_Numbers):
    """A single number."""

    id: Identifier
    role: Identifier
    unit: Annotated[str, Field(max_length=32)]


class IdentityJson(_Part):
    """Bytes that must be as given: as text, or in hexadecimal."""

    address: Address
    text: Annotated[str, Field(min_length=1, max_length=64)] | None = None
    hex: Annotated[str, Field(min_length=2, max_length=192)] | None = None


class ChecksumJson(_Part):
    """A checksum over ranges [from, up to and not including]."""

    kind: Annotated[str, AfterValidator(_known_checksum)]
    ranges: Annotated[
        list[Annotated[list[Address], Field(min_length=2, max_length=2)]], Field(min_length=1, max_length=64)
    ]
    address: Address
    byte_order: ByteOrder | None = None
    complement: bool = False


class CalibrationNameJson(_Part):
    """What calibrations read from the image are called."""

    id: Identifier
    title: Words


class LayoutJson(_Part):
    """A whole layout."""

    format: Literal["uchiwa.layout/1"]
    id: Identifier
    title: Words
    calibration: CalibrationNameJson
    base: Address = 0
    size: Annotated[int, BeforeValidator(hexadecimal), Field(ge=1, le=LARGEST)]
    byte_order: ByteOrder = "big"
    identity: list[IdentityJson] = []
    constants: list[ConstantJson] = []
    tables: Annotated[list[TableJson], Field(max_length=2000)] = []
    checksums: Annotated[list[ChecksumJson], Field(max_length=64)] = []


def schema() -> dict[str, Any]:
    """The JSON Schema of the format."""
    described = LayoutJson.model_json_schema()
    described["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    described["title"] = "Uchiwa layout"
    return described


def loads(text: str | bytes, name: str = "layout") -> Layout:
    """Read a layout.

    Raises:
        BadInput: not JSON, not a valid layout, something overlaps or runs past the image; says the path.
    """
    raw = read_json(text, where=name, advice="choose a layout in Uchiwa's JSON format")
    try:
        if not isinstance(raw, dict) or raw.get("format") != FORMAT:
            raise BadInput(f"the format is not “{FORMAT}”", where="format", advice="see docs/formats.md")
        try:
            part = LayoutJson.model_validate(raw)
        except ValidationError as error:
            raise complaint(error) from error
        layout = _layout(part)
        layout.check()
    except BadInput as error:
        raise BadInput(error.what, where=f"{name}, {error.where}", advice=error.advice) from error
    return layout


def _layout(part: LayoutJson) -> Layout:
    order = part.byte_order
    for kind, ids in (
        ("tables", [table.id for table in part.tables]),
        ("constants", [constant.id for constant in part.constants]),
    ):
        seen: set[str] = set()
        for number, id_ in enumerate(ids):
            if id_ in seen:
                raise BadInput(f"the id “{id_}” is used twice", where=f"{kind}[{number}].id", advice="rename one")
            seen.add(id_)
    return Layout(
        part.id,
        part.title,
        part.calibration.id,
        part.calibration.title,
        part.base,
        part.size,
        tuple(identity_of(identity_json, f"identity[{number}]") for number, identity_json in enumerate(part.identity)),
        tuple(
            ConstantPlace(constant.id, constant.role, constant.unit, _place(constant, order))
            for constant in part.constants
        ),
        tuple(_table(table, order, f"tables[{number}]") for number, table in enumerate(part.tables)),
        tuple(checksum_of(checksum, order) for checksum in part.checksums),
    )


def _place(part: _Numbers, order: ByteOrder, count: int = 1) -> Place:
    return Place(part.address, _number(part, part.type, order), count)


def _number(part: _Conversion, kind: NumberType, order: ByteOrder) -> Number:
    rational = Rational(*part.rational) if part.rational is not None else None
    return Number(kind, part.byte_order or order, part.scale, part.offset, rational)


def checksum_of(part: ChecksumJson, order: ByteOrder) -> Checksum:
    """A checksum from plain data; `order` where it does not say its own."""
    ranges = tuple((low, high) for low, high in part.ranges)
    return Checksum(part.kind, ranges, part.address, part.byte_order or order, part.complement)


def identity_of(part: IdentityJson, where: str) -> Identity:
    """Bytes of an identity from plain data.

    Raises:
        BadInput: they are neither text nor hexadecimal.
    """
    if (part.text is None) == (part.hex is None):
        raise BadInput("give either text or hex", where=where, advice="and not both")
    try:
        data = part.text.encode("ascii") if part.text is not None else bytes.fromhex(part.hex or "")
    except ValueError:
        raise BadInput("this is not ASCII text or hexadecimal", where=where, advice="correct it") from None
    return Identity(part.address, data)


def _axis(part: AxisJson, order: ByteOrder, where: str) -> AxisPlace:
    if (part.breakpoints is None) == (part.address is None):
        raise BadInput("an axis has either breakpoints or an address", where=where, advice="and not both")
    if part.breakpoints is not None:
        return AxisPlace(part.quantity, part.unit, None, axis_of(part.quantity, part.unit, part.breakpoints, where))
    if part.type is None or part.count is None or part.address is None:
        raise BadInput("an axis in the image needs type and count", where=where, advice="add them")
    axis_of(part.quantity, part.unit, [0.0, 1.0], where)
    place = Place(part.address, _number(part, part.type, order), part.count)
    return AxisPlace(part.quantity, part.unit, place, None)


def _table(part: TableJson, order: ByteOrder, where: str) -> TablePlace:
    x = _axis(part.x, order, f"{where}.x")
    y = _axis(part.y, order, f"{where}.y") if part.y is not None else None
    cells = x.size * (y.size if y is not None else 1)
    if part.minimum is not None and part.maximum is not None and part.minimum > part.maximum:
        raise BadInput("the minimum is above the maximum", where=f"{where}.minimum", advice="exchange them")
    return TablePlace(
        part.id,
        part.title,
        part.role,
        part.unit,
        x,
        y,
        _place(part, order, cells),
        part.minimum,
        part.maximum,
        part.decimals,
        part.by_columns,
    )


def fixed_axis(place: AxisPlace, values: np.ndarray, where: str) -> Axis:
    """The axis of breakpoints that were read from an image.

    Raises:
        BadInput: they do not rise.
    """
    return axis_of(place.quantity, place.unit, [float(value) for value in values], where)


def as_dict(layout: Layout) -> dict[str, Any]:
    """A layout as plain JSON data, from which `loads` makes an equal one."""
    return {
        "format": FORMAT,
        "id": layout.id,
        "title": layout.title,
        "calibration": {"id": layout.calibration_id, "title": layout.calibration_title},
        "base": f"0x{layout.base:X}",
        "size": layout.size,
        "identity": [
            {"address": f"0x{identity.address:X}", "hex": identity.data.hex(" ")} for identity in layout.identities
        ],
        "constants": [
            {"id": constant.id, "role": constant.role, "unit": constant.unit} | _place_dict(constant.place)
            for constant in layout.constants
        ],
        "tables": [_table_dict(table) for table in layout.tables],
        "checksums": [
            {
                "kind": checksum.kind,
                "ranges": [[f"0x{low:X}", f"0x{high:X}"] for low, high in checksum.ranges],
                "address": f"0x{checksum.address:X}",
                "byte_order": checksum.order,
                "complement": checksum.complement,
            }
            for checksum in layout.checksums
        ],
    }


def dumps(layout: Layout) -> str:
    """A layout as JSON text, a table to a line."""
    data = as_dict(layout)
    lines = []
    for key, value in data.items():
        if isinstance(value, list) and value:
            inner = ",\n".join("  " + json.dumps(one, ensure_ascii=False) for one in value)
            lines.append(f" {json.dumps(key)}: [\n{inner}\n ]")
        else:
            lines.append(f" {json.dumps(key)}: {json.dumps(value, ensure_ascii=False)}")
    return "{\n" + ",\n".join(lines) + "\n}\n"


def _place_dict(place: Place) -> dict[str, Any]:
    number = place.number
    found: dict[str, Any] = {"address": f"0x{place.address:X}", "type": number.type, "byte_order": number.order}
    if number.rational is not None:
        one = number.rational
        return found | {"rational": [one.b, one.c, one.e, one.f]}
    return found | {"scale": number.scale, "offset": number.offset}


def _axis_dict(axis: AxisPlace) -> dict[str, Any]:
    found: dict[str, Any] = {"quantity": axis.quantity, "unit": axis.unit}
    if axis.place is not None:
        return found | _place_dict(axis.place) | {"count": axis.place.count}
    return found | {"breakpoints": axis.fixed.breakpoints.tolist() if axis.fixed is not None else []}


def _table_dict(table: TablePlace) -> dict[str, Any]:
    found: dict[str, Any] = {"id": table.id, "title": table.title, "role": table.role, "unit": table.unit}
    found["x"] = _axis_dict(table.x)
    if table.y is not None:
        found["y"] = _axis_dict(table.y)
    found |= _place_dict(table.place)
    found |= {"minimum": table.minimum, "maximum": table.maximum, "decimals": table.decimals}
    return found | ({"by_columns": True} if table.by_columns else {})
