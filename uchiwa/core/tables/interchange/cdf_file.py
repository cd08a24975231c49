"""What an ASAM CDF 2.x file holds, by name: values, breakpoints and units."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from lxml import etree

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.logs.log import FloatArray

LARGEST = 64 * 2**20
GROUP, ENTRY = "UCHIWA", "calibration"
_MOST_VALUES = 5_000_000
_ADVICE = "export it again as ASAM CDF 2.0"


@dataclass(frozen=True, eq=False)
class CdfAxis:
    """Breakpoints of an instance; or the name of another that holds them."""

    unit: str
    points: FloatArray
    reference: str = ""


@dataclass(frozen=True, eq=False)
class CdfInstance:
    """One value, curve or map of a CDF file.

    Attributes:
        name, title, category: `VALUE`, `CURVE`, `MAP`, `COM_AXIS`, …
        unit: of its values.
        values: rows by the second axis; shape (rows, columns).
        axes: first the one along a row.
    """

    name: str
    title: str
    category: str
    unit: str
    values: FloatArray
    axes: tuple[CdfAxis, ...]


@dataclass(frozen=True, eq=False)
class CdfFile:
    """What a CDF file holds.

    Attributes:
        name: of the data set.
        instances: by name.
        told: what was written beside the values, if the file is our own.
        skipped: instances of kinds that a calibration has none of.
    """

    name: str
    instances: Mapping[str, CdfInstance]
    told: dict[str, Any] | None
    skipped: tuple[str, ...]


def is_cdf(data: bytes) -> bool:
    """Whether a file begins as XML does."""
    return data[:200].lstrip(b"\xef\xbb\xbf \r\n\t").startswith(b"<")


def _tree(data: bytes, name: str) -> etree._Element:
    """The root of a file, with nothing fetched and no entity followed.

    Raises:
        BadInput: it is too large, no XML, defines entities, or is no CDF.
    """
    if len(data) > LARGEST:
        raise BadInput(f"a CDF file may have up to {LARGEST // 2**20} MiB", where=name, advice="export less of it")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(data, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        line = getattr(error, "lineno", None)
        where = f"{name}, line {line}" if line else name
        raise BadInput("this is not well-formed XML", where=where, advice=_ADVICE) from None
    document = root.getroottree().docinfo
    if document.internalDTD is not None and any(True for _ in document.internalDTD.iterentities()):
        raise BadInput("the file defines entities of its own, which are not followed", where=name, advice=_ADVICE)
    for one in root.iter():
        if isinstance(one.tag, str):
            one.tag = etree.QName(one).localname  # some programs give the elements a namespace
    if root.tag != "MSRSW":
        raise BadInput(f"this is XML, but no CDF: it begins with {root.tag}", where=name, advice=_ADVICE)
    return root


def read_cdf(data: bytes, name: str) -> CdfFile:
    """What a CDF file holds.

    Raises:
        BadInput: it is no CDF 2.x, or holds nothing; says the line.
    """
    root = _tree(data, name)
    category = _said(root, "CATEGORY")
    if category and not category.startswith("CDF2"):
        raise BadInput(f"this is {category[:20]}, not CDF 2.x", where=name, advice=_ADVICE)
    if sum(1 for _ in root.iter("V", "VT", "VF")) > _MOST_VALUES:
        raise BadInput(f"the file holds more than {_MOST_VALUES:,} values", where=name, advice="export less of it")
    found: dict[str, CdfInstance] = {}
    skipped = []
    for one in root.iter("SW-INSTANCE"):
        read = _read(one, name)
        if read.category in ("VALUE", "CURVE", "MAP", "COM_AXIS"):
            found.setdefault(read.name, read)
        else:
            skipped.append(read.name)
    if not found:
        raise BadInput("the file holds no value, curve or map", where=name, advice=_ADVICE)
    return CdfFile(_said(root, "SHORT-NAME") or name, found, _told(root), tuple(skipped))


def _told(root: etree._Element) -> dict[str, Any] | None:
    for entry in root.iter("SD"):
        if entry.get("GID") == ENTRY and entry.getparent().get("GID") == GROUP and entry.text:
            try:
                found = read_json(entry.text, where="", advice="")
            except BadInput:
                return None
            return found if isinstance(found, dict) else None
    return None


def _said(element: etree._Element | None, tag: str) -> str:
    found = element.find(tag) if element is not None else None
    return "".join(found.itertext()).strip() if found is not None else ""


def _read(element: etree._Element, name: str) -> CdfInstance:
    title = _said(element, "SHORT-NAME")
    if not title:
        raise BadInput("an instance has no name", where=f"{name}, line {element.sourceline}", advice=_ADVICE)
    category = _said(element, "CATEGORY").upper()
    contents = element.find("SW-VALUE-CONT")
    rows: list[FloatArray] = []
    if category in ("VALUE", "CURVE", "MAP", "COM_AXIS") and contents is not None:
        values = contents.find("SW-VALUES-PHYS")
        groups = values.findall("VG") if values is not None else []
        rows = [_numbers(group, title, name) for group in (groups or ([values] if values is not None else []))]
    if len({row.size for row in rows}) > 1:
        raise BadInput("its rows are of different lengths", where=f"{name}, {title}", advice=_ADVICE)
    axes = sorted(element.findall("SW-AXIS-CONTS/SW-AXIS-CONT"), key=lambda one: _said(one, "SW-AXIS-INDEX"))
    return CdfInstance(
        title,
        _said(element, "LONG-NAME") or title,
        category,
        _said(contents, "UNIT-DISPLAY-NAME"),
        np.array(rows) if rows else np.empty((0, 0)),
        tuple(_axis(axis, title, name) for axis in axes if _said(axis, "SW-AXIS-INDEX") != "0"),
    )


def _axis(element: etree._Element, title: str, name: str) -> CdfAxis:
    values = element.find("SW-VALUES-PHYS")
    points = _numbers(values, title, name) if values is not None else np.empty(0)
    return CdfAxis(_said(element, "UNIT-DISPLAY-NAME"), points, _said(element, "SW-INSTANCE-REF"))


def _numbers(element: etree._Element, title: str, name: str) -> FloatArray:
    found = []
    for one in element.iter("V", "VF", "VT"):
        try:
            value = float(one.text or "")
        except ValueError:
            value = float("nan")
        if not np.isfinite(value):
            said = f"“{(one.text or '')[:30]}” is not a number"
            raise BadInput(said, where=f"{name}, line {one.sourceline}, {title}", advice=_ADVICE)
        found.append(value)
    return np.array(found, dtype=np.float64)
