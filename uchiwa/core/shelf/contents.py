"""What a file is that is put on the shelf, by what stands in it."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from enum import StrEnum

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.logs.readers.bus.database import BusDatabase, read_database
from uchiwa.core.logs.readers.sniff import as_utf8
from uchiwa.core.tables.a2l.description import Description, read_description
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.layout import Layout
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.core.tables.table import Calibration

CAR_FORMAT = "uchiwa.car/1"
_DBC = re.compile(r"^[ \t]{0,8}(VERSION\s|NS_[ \t]{0,9}:|BU_[ \t]{0,9}:|BO_[ \t]{1,9}\d{1,10}\s)", re.MULTILINE)
_ADVICE = "put a calibration (JSON or CDF), a layout, a car file, an A2L or a DBC here"


class ShelfKind(StrEnum):
    """Kinds of things on the shelf."""

    CALIBRATION = "calibration"
    LAYOUT = "layout"
    CAR = "car"
    DESCRIPTION = "description"
    BUS = "bus"


TITLES = {
    ShelfKind.CALIBRATION: ("Calibrations", "maps of cars that run well, to start from"),
    ShelfKind.LAYOUT: ("Layouts", "where in a controller’s image each number stands"),
    ShelfKind.CAR: ("Car files", "what has to be known of a kind of car"),
    ShelfKind.DESCRIPTION: ("Descriptions (A2L)", "a controller’s own description, from which layouts are made"),
    ShelfKind.BUS: ("Buses (DBC)", "what the frames of a car’s bus mean, for recordings of it"),
}
"""Words for each kind, and what it is for."""


@dataclass(frozen=True, eq=False)
class Content:
    """A file that was read.

    Attributes:
        kind: what it is.
        title: what it calls itself, or the file's name.
        read: what stands in it.
    """

    kind: ShelfKind
    title: str
    read: Calibration | Layout | CarFile | Description | BusDatabase


def read_content(data: bytes, name: str) -> Content:
    """What a file is, and what stands in it.

    Raises:
        BadInput: it is nothing that the shelf holds, or faulty; says what is wrong.
    """
    if not data.strip():
        raise BadInput("the file is empty", where=name, advice=_ADVICE)
    if data.lstrip(b"\xef\xbb\xbf \r\n\t").startswith(b"{"):
        return _of_json(data, name)
    if cdf.is_cdf(data):
        found = cdf.loads(data, name).calibration
        return Content(ShelfKind.CALIBRATION, found.title, found)
    text = as_utf8(data[:65536]).decode("utf-8", "replace")
    if "/begin" in text or text.lstrip().startswith("ASAP2_VERSION"):
        description = read_description(data, name)
        return Content(ShelfKind.DESCRIPTION, description.words or description.name, description)
    if _DBC.search(text) and b"\0" not in data:
        return Content(ShelfKind.BUS, name, read_database(as_utf8(data).decode("utf-8", "replace"), name))
    raise BadInput("this is nothing that the shelf holds", where=name, advice=_ADVICE)


def _of_json(data: bytes, name: str) -> Content:
    raw = read_json(data, where=name, advice=_ADVICE)
    told = raw.get("format") if isinstance(raw, dict) else None
    if told == calibration_json.FORMAT:
        calibration = calibration_json.loads(data.decode("utf-8-sig"), name)
        return Content(ShelfKind.CALIBRATION, calibration.title, calibration)
    if told == layout_json.FORMAT:
        layout = layout_json.loads(data.decode("utf-8-sig"), name)
        return Content(ShelfKind.LAYOUT, layout.title, layout)
    if told == CAR_FORMAT or (told is None and isinstance(raw, dict) and set(raw) & set(CarFile.model_fields)):
        raw.pop("format", None)
        return Content(ShelfKind.CAR, name, CarFile.read(raw))
    raise BadInput("this JSON is nothing that the shelf holds", where=name, advice=_ADVICE)


def car_document(file: CarFile) -> bytes:
    """A car file as it is kept on the shelf."""
    return json.dumps({"format": CAR_FORMAT} | file.model_dump(mode="json"), ensure_ascii=False).encode()
