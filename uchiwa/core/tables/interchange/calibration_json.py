"""Uchiwa calibration JSON (`uchiwa.calibration/1`): reading, writing, its schema."""

from __future__ import annotations

import hashlib
import json
import math
from collections.abc import Sequence
from typing import Annotated, Any, Literal
from weakref import WeakKeyDictionary

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert, known_unit
from uchiwa.core.tables.table import LARGEST, Axis, Calibration, Constant, Table, frozen
from uchiwa.core.tables.zones import Zone, powers

FORMAT = "uchiwa.calibration/1"
Role = Literal[
    "volumetric_efficiency",
    "maf_curve",
    "lambda_target",
    "spark_advance",
    "idle_airflow",
    "warmup_factor",
    "cold_lambda_offset",
    "knock_limit",
    "airflow_clamp",
    "other",
]
_CELLS_LIMIT = 65536
Identifier = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_-]*$", max_length=64)]
Words = Annotated[str, Field(min_length=1, max_length=200)]
Number = Annotated[float, Field(allow_inf_nan=False, ge=-LARGEST, le=LARGEST)]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


class AxisJson(_Part):
    """The breakpoints of one axis, strictly rising."""

    quantity: Identifier
    unit: Annotated[str, Field(max_length=32)]
    breakpoints: Annotated[list[Number], Field(min_length=2, max_length=256)]


class ConstantJson(_Part):
    """A single number."""

    id: Identifier
    role: Identifier
    value: Number
    unit: Annotated[str, Field(max_length=32)]


class ZoneJson(_Part):
    """A polynomial over a rectangle of a table: from and to along each axis, degree, coefficients 1, x, y, x², …"""

    x: Annotated[list[Number], Field(min_length=2, max_length=2)]
    y: Annotated[list[Number], Field(min_length=2, max_length=2)]
    degree: Annotated[int, Field(ge=0, le=6)]
    coefficients: Annotated[list[Number], Field(min_length=1, max_length=28)]


class TableJson(_Part):
    """A table (`values[j][i]` at `y[j]`, `x[i]`) or a curve (no `y`, a flat list)."""

    id: Identifier
    title: Words
    role: Role
    unit: Annotated[str, Field(max_length=32)]
    x: AxisJson
    y: AxisJson | None = None
    values: list[list[Number]] | list[Number]
    minimum: Number | None = None
    maximum: Number | None = None
    decimals: Annotated[int, Field(ge=0, le=9)] = 2
    zones: Annotated[list[ZoneJson], Field(max_length=64)] = []


class CalibrationJson(_Part):
    """A whole calibration."""

    format: Literal["uchiwa.calibration/1"]
    id: Identifier
    title: Words
    constants: list[ConstantJson] = []
    tables: Annotated[list[TableJson], Field(max_length=2000)] = []


def schema() -> dict[str, Any]:
    """The JSON Schema of the format."""
    described = CalibrationJson.model_json_schema()
    described["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    described["title"] = "Uchiwa calibration"
    return described


def _path(location: tuple[int | str, ...]) -> str:
    """A location as a path: tables[0].x.breakpoints[3]. Names of union members are left out."""
    path = ""
    for part in location:
        if isinstance(part, int):
            path += f"[{part}]"
        elif not part.startswith("list["):
            path += f".{part}" if path else part
    return path or "the file"


def complaint(error: ValidationError) -> BadInput:
    """The first complaint that is not about the wrong member of a union, in our words."""
    complaints = error.errors(include_url=False)
    first = min(complaints, key=lambda one: (one["type"] in {"list_type", "float_type"}, len(one["loc"])))
    if any(one["type"] == "finite_number" for one in complaints):
        first = next(one for one in complaints if one["type"] == "finite_number")
    where = _path(first["loc"])
    match first["type"]:
        case "extra_forbidden":
            return BadInput("this key is not known", where=where, advice="remove it or correct its spelling")
        case "missing":
            return BadInput("this key is missing", where=where, advice="add it")
        case "finite_number":
            return BadInput("NaN and infinity are not values", where=where, advice="write a number")
        case "value_error":
            return BadInput(first["msg"].removeprefix("Value error, "), where=where, advice="correct the file")
        case _:
            return BadInput(first["msg"][0].lower() + first["msg"][1:], where=where, advice="correct the file")


def axis_of(quantity_id: str, unit: str, breakpoints: Sequence[float], where: str) -> Axis:
    """An axis from plain data.

    Raises:
        BadInput: the breakpoints do not rise, or the quantity or its unit is not known.
    """
    points = np.array(breakpoints, dtype=np.float64)
    steps = np.diff(points)
    if (steps <= 0).any():
        at = int(np.argmax(steps <= 0)) + 1
        raise BadInput(
            f"the breakpoints do not rise: {points[at]:g} follows {points[at - 1]:g}",
            where=f"{where}.breakpoints[{at}]",
            advice="list them from low to high, each once",
        )
    quantity = QUANTITIES.get(quantity_id)
    if quantity is None:
        raise BadInput(f"“{quantity_id}” is not a quantity", where=f"{where}.quantity", advice="see docs/formats.md")
    if not known_unit(unit):
        raise BadInput(f"the unit “{unit}” is not known", where=f"{where}.unit", advice=f"use {quantity.unit}")
    try:
        convert(points, unit, quantity.unit)
    except BadInput as error:
        raise BadInput(error.what, where=f"{where}.unit", advice=error.advice) from error
    return Axis(quantity_id, unit, frozen(points))


def _axis(part: AxisJson, where: str) -> Axis:
    return axis_of(part.quantity, part.unit, part.breakpoints, where)


def _table(part: TableJson, where: str) -> Table:
    x = _axis(part.x, f"{where}.x")
    y = _axis(part.y, f"{where}.y") if part.y is not None else None
    rows = part.values
    nested = [isinstance(row, list) for row in rows]
    if y is None:
        if any(nested) or len(rows) != x.size:
            raise BadInput(
                f"a curve over {x.size} breakpoints needs a flat list of {x.size} values",
                where=f"{where}.values",
                advice="or give the table a y axis",
            )
    else:
        if not all(nested) or len(rows) != y.size:
            raise BadInput(
                f"there are {len(rows)} rows for {y.size} breakpoints of y",
                where=f"{where}.values",
                advice="give one list per breakpoint of y",
            )
        for number, row in enumerate(rows):
            if not isinstance(row, list) or len(row) != x.size:
                length = len(row) if isinstance(row, list) else 1
                raise BadInput(
                    f"the table is ragged: this row has {length} values and x has {x.size} breakpoints",
                    where=f"{where}.values[{number}]",
                    advice="give every row one value per breakpoint",
                )
    if (y.size if y else 1) * x.size > _CELLS_LIMIT:
        raise BadInput(f"a table may have up to {_CELLS_LIMIT} cells", where=where)
    if part.minimum is not None and part.maximum is not None and part.minimum > part.maximum:
        raise BadInput("the minimum is above the maximum", where=f"{where}.minimum", advice="exchange them")
    values = frozen(rows)
    zones = tuple(_zone(zone, y is None, f"{where}.zones[{number}]") for number, zone in enumerate(part.zones))
    return Table(
        part.id, part.title, part.role, part.unit, x, y, values, part.minimum, part.maximum, part.decimals, zones
    )


def _zone(part: ZoneJson, curve: bool, where: str) -> Zone:
    if curve:
        raise BadInput("a curve has no zones", where=where, advice="give the table a y axis")
    for name, ends in (("x", part.x), ("y", part.y)):
        if ends[1] <= ends[0]:
            raise BadInput("the zone does not reach from low to high", where=f"{where}.{name}", advice="exchange them")
    wanted = len(powers(part.degree))
    if len(part.coefficients) != wanted:
        raise BadInput(
            f"degree {part.degree} has {wanted} coefficients, not {len(part.coefficients)}",
            where=f"{where}.coefficients",
            advice="list them as 1, x, y, x², x·y, y², …",
        )
    return Zone((part.x[0], part.x[1]), (part.y[0], part.y[1]), part.degree, tuple(part.coefficients))


def loads(text: str | bytes, name: str = "calibration") -> Calibration:
    """Read a calibration.

    Raises:
        BadInput: not JSON, or not a valid calibration; says the path.
    """
    raw = read_json(text, where=name, advice="choose a calibration in Uchiwa's JSON format")
    try:
        if not isinstance(raw, dict):
            raise BadInput("a calibration is a JSON object", where="the file", advice="see docs/formats.md")
        if raw.get("format") != FORMAT:
            raise BadInput(f"the format is not “{FORMAT}”", where="format", advice="see docs/formats.md")
        try:
            part = CalibrationJson.model_validate(raw)
        except ValidationError as error:
            raise complaint(error) from error
        tables = tuple(_table(table, f"tables[{number}]") for number, table in enumerate(part.tables))
        for kind, ids in (("tables", [t.id for t in tables]), ("constants", [c.id for c in part.constants])):
            seen: set[str] = set()
            for number, id_ in enumerate(ids):
                if id_ in seen:
                    raise BadInput(f"the id “{id_}” is used twice", where=f"{kind}[{number}].id", advice="rename one")
                seen.add(id_)
    except BadInput as error:
        raise BadInput(error.what, where=f"{name}, {error.where}", advice=error.advice) from error
    constants = tuple(Constant(c.id, c.role, c.value, c.unit) for c in part.constants)
    return Calibration(part.id, part.title, constants, tables)


def _number(value: float) -> float | int:
    value = float(value)
    return int(value) if value.is_integer() and math.fabs(value) < 2**53 else value


def _axis_dict(axis: Axis) -> dict[str, Any]:
    return {
        "quantity": axis.quantity,
        "unit": axis.unit,
        "breakpoints": [_number(point) for point in axis.breakpoints],
    }


def _table_dict(table: Table) -> dict[str, Any]:
    out: dict[str, Any] = {"id": table.id, "title": table.title, "role": table.role, "unit": table.unit}
    out["x"] = _axis_dict(table.x)
    if table.y is not None:
        out["y"] = _axis_dict(table.y)
        out["values"] = [[_number(value) for value in row] for row in table.values.tolist()]
    else:
        out["values"] = [_number(value) for value in table.values.tolist()]
    if table.minimum is not None:
        out["minimum"] = _number(table.minimum)
    if table.maximum is not None:
        out["maximum"] = _number(table.maximum)
    out["decimals"] = table.decimals
    if table.zones:
        out["zones"] = [
            {"x": list(zone.x), "y": list(zone.y), "degree": zone.degree, "coefficients": list(zone.coefficients)}
            for zone in table.zones
        ]
    return out


def _constant_dict(constant: Constant) -> dict[str, Any]:
    return {"id": constant.id, "role": constant.role, "value": _number(constant.value), "unit": constant.unit}


def as_dict(calibration: Calibration) -> dict[str, Any]:
    """The calibration as plain JSON data; numbers are kept exactly."""
    return {
        "format": FORMAT,
        "id": calibration.id,
        "title": calibration.title,
        "constants": [_constant_dict(constant) for constant in calibration.constants],
        "tables": [_table_dict(table) for table in calibration.tables],
    }


def dumps(calibration: Calibration) -> str:
    """The calibration as JSON text, one row of a table to a line, the same text for the same content."""
    head = {"format": FORMAT, "id": calibration.id, "title": calibration.title}
    lines = ["{"]
    lines += [f" {json.dumps(key)}: {json.dumps(value, ensure_ascii=False)}," for key, value in head.items()]
    constants = ",\n".join(
        "  " + json.dumps(_constant_dict(constant), ensure_ascii=False) for constant in calibration.constants
    )
    lines.append(' "constants": [' + (f"\n{constants}\n ]," if constants else "],"))
    tables = ",\n".join(_table_text(table) for table in calibration.tables)
    lines.append(' "tables": [' + (f"\n{tables}\n ]" if tables else "]"))
    lines.append("}\n")
    return "\n".join(lines)


_texts: WeakKeyDictionary[Table, str] = WeakKeyDictionary()


def _table_text(table: Table) -> str:
    """A table's text; tables never change, so an edit of one writes only that one anew."""
    text = _texts.get(table)
    if text is None:
        text = _texts[table] = _written(_table_dict(table))
    return text


def _written(table: dict[str, Any]) -> str:
    parts: list[str] = []
    for key, value in table.items():
        if key == "values" and value and isinstance(value[0], list):
            rows = ",\n".join("    " + json.dumps(row) for row in value)
            parts.append(f'   "values": [\n{rows}\n   ]')
        else:
            parts.append(f"   {json.dumps(key)}: {json.dumps(value, ensure_ascii=False)}")
    return "  {\n" + ",\n".join(parts) + "\n  }"


def content_hash(calibration: Calibration) -> str:
    """SHA-256 of the written calibration, in hex: equal content has an equal hash."""
    return hashlib.sha256(dumps(calibration).encode()).hexdigest()
