"""Calibrations as ASAM CDF 2.x (XML): written whole, and read as values for a calibration of the same tables.

A CDF file holds values, axes and units by name. What it has no word for (roles, quantities, limits, digits, polynomials) is
written as special data beside them, so that a file of our own gives the very calibration back; other programs pass over it.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from lxml import etree

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.units import convert, plain_unit
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.interchange.calibration_json import axis_of
from uchiwa.core.tables.interchange.cdf_file import ENTRY, GROUP, CdfAxis, CdfFile, CdfInstance, is_cdf, read_cdf
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen

CATEGORY = "CDF20"
__all__ = ["CdfTaken", "dumps", "is_cdf", "loads"]
_ADVICE = "export it again as ASAM CDF 2.0"


@dataclass(frozen=True, eq=False)
class CdfTaken:
    """A calibration with the values of a CDF file.

    Attributes:
        calibration: with what could be taken.
        taken: ids of tables and constants that the file holds.
        left_out: what was not taken and why, as sentences.
    """

    calibration: Calibration
    taken: tuple[str, ...]
    left_out: tuple[str, ...]


def dumps(calibration: Calibration) -> bytes:
    """The calibration as a CDF 2.0 file; numbers are kept exactly."""
    root = etree.Element("MSRSW")
    _text(root, "SHORT-NAME", calibration.id)
    _text(root, "CATEGORY", CATEGORY)
    told = calibration_json.as_dict(calibration)
    for table in told["tables"]:
        del table["values"]
    data = etree.SubElement(etree.SubElement(etree.SubElement(root, "ADMIN-DATA"), "SDGS"), "SDG", GID=GROUP)
    etree.SubElement(data, "SD", GID=ENTRY).text = json.dumps(told, ensure_ascii=False, separators=(",", ":"))
    system = etree.SubElement(etree.SubElement(root, "SW-SYSTEMS"), "SW-SYSTEM")
    _text(system, "SHORT-NAME", calibration.id)
    tree = etree.SubElement(etree.SubElement(system, "SW-INSTANCE-SPEC"), "SW-INSTANCE-TREE")
    _text(tree, "SHORT-NAME", calibration.id)
    _text(tree, "CATEGORY", "NO_VCD")
    for constant in calibration.constants:
        instance = _instance(tree, constant.id, constant.role, "VALUE")
        _values(etree.SubElement(instance, "SW-VALUE-CONT"), constant.unit, [[constant.value]], grouped=False)
    for table in calibration.tables:
        _table(tree, table)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def _text(parent: etree._Element, tag: str, words: str) -> None:
    etree.SubElement(parent, tag).text = words


def _instance(tree: etree._Element, name: str, title: str, category: str) -> etree._Element:
    found = etree.SubElement(tree, "SW-INSTANCE")
    _text(found, "SHORT-NAME", name)
    _text(found, "LONG-NAME", title)
    _text(found, "CATEGORY", category)
    return found


def _values(parent: etree._Element, unit: str, rows: Iterable[Iterable[float]], *, grouped: bool) -> None:
    _text(parent, "UNIT-DISPLAY-NAME", unit)
    values = etree.SubElement(parent, "SW-VALUES-PHYS")
    for row in rows:
        into = etree.SubElement(values, "VG") if grouped else values
        for value in row:
            _text(into, "V", repr(int(value)) if value == int(value) and abs(value) < 2**53 else repr(float(value)))


def _table(tree: etree._Element, table: Table) -> None:
    instance = _instance(tree, table.id, table.title, "CURVE" if table.y is None else "MAP")
    _values(etree.SubElement(instance, "SW-VALUE-CONT"), table.unit, table.grid.tolist(), grouped=table.y is not None)
    axes = etree.SubElement(instance, "SW-AXIS-CONTS")
    for number, axis in enumerate((table.x, table.y), start=1):
        if axis is None:
            continue
        found = etree.SubElement(axes, "SW-AXIS-CONT")
        _text(found, "CATEGORY", "STD_AXIS")
        _text(found, "UNIT-DISPLAY-NAME", axis.unit)
        _text(found, "SW-AXIS-INDEX", str(number))
        values = etree.SubElement(found, "SW-VALUES-PHYS")
        for point in axis.breakpoints.tolist():
            _text(values, "V", repr(float(point)))


def loads(data: bytes, name: str = "calibration.cdfx", into: Calibration | None = None) -> CdfTaken:
    """The calibration of a CDF file: its own if the file is ours, else a calibration with the file's values.

    Args:
        into: the calibration that the values are for; needed if the file is another program's.

    Raises:
        BadInput: it cannot be read, or holds nothing of the calibration.
    """
    file = read_cdf(data, name)
    if into is None:
        if file.told is None:
            raise BadInput(
                "the file holds values without saying what they are for",
                where=name,
                advice="take it into a calibration of the same tables",
            )
        into = _own(file, name)
    taken: list[str] = []
    left_out: list[str] = []
    constants = tuple(_constant(constant, file, taken, left_out) for constant in into.constants)
    tables = tuple(_with_values(table, file, taken, left_out) for table in into.tables)
    if not taken:
        why = f": {left_out[0]}" if left_out else ""
        raise BadInput(f"nothing of the file can be taken{why}", where=name, advice="choose the car’s own file")
    known = {table.id for table in into.tables} | {constant.id for constant in into.constants}
    others = [
        instance
        for instance in file.instances
        if _id(instance) not in known and file.instances[instance].category != "COM_AXIS"
    ]
    if others:
        left_out.append(_not_known(others))
    return CdfTaken(replace(into, constants=constants, tables=tables), tuple(taken), tuple(left_out))


def _not_known(names: list[str]) -> str:
    first = ", ".join(names[:5])
    more = f" and {len(names) - 5} more" if len(names) > 5 else ""
    return f"the calibration has no {first}{more}"


def _id(name: str) -> str:
    return name.lower()


def _own(file: CdfFile, name: str) -> Calibration:
    """The calibration that our own file tells of, without values."""
    told = json.loads(json.dumps(file.told))
    try:
        for table in told["tables"]:
            columns = len(table["x"]["breakpoints"])
            table["values"] = [0.0] * columns
            if "y" in table:
                table["values"] = [[0.0] * columns for _ in table["y"]["breakpoints"]]
        return calibration_json.loads(json.dumps(told), name)
    except (KeyError, TypeError):
        raise BadInput("what was written beside the values is damaged", where=name, advice=_ADVICE) from None


def _found(file: CdfFile, wanted: str) -> CdfInstance | None:
    return file.instances.get(wanted) or next(
        (instance for key, instance in file.instances.items() if _id(key) == wanted), None
    )


def _converted(values: FloatArray, told: str, unit: str) -> FloatArray:
    """Values in the calibration's unit.

    Raises:
        BadInput: they cannot be.
    """
    if not told or plain_unit(told) == plain_unit(unit):
        return values
    return convert(values, told, unit)


def _constant(constant: Constant, file: CdfFile, taken: list[str], left_out: list[str]) -> Constant:
    found = _found(file, constant.id)
    if found is None:
        return constant
    if found.values.size != 1:
        left_out.append(f"{constant.id} has {found.values.size} values in the file and is one number")
        return constant
    try:
        value = float(_converted(found.values.ravel(), found.unit, constant.unit)[0])
    except BadInput as error:
        left_out.append(f"{constant.id}: {error.what}")
        return constant
    taken.append(constant.id)
    return replace(constant, value=value)


def _with_values(table: Table, file: CdfFile, taken: list[str], left_out: list[str]) -> Table:
    found = _found(file, table.id)
    if found is None:
        return table
    try:
        after = _filled(table, found, file)
    except BadInput as error:
        left_out.append(f"{table.title}: {error.what}")
        return table
    taken.append(table.id)
    return after


def _filled(table: Table, found: CdfInstance, file: CdfFile) -> Table:
    """The table with an instance's values and breakpoints.

    Raises:
        BadInput: they are of another size, or in units that cannot be turned into the table's.
    """
    if found.values.shape != table.shape:
        rows, columns = found.values.shape
        raise BadInput(f"{columns} × {rows} values in the file, {table.shape[1]} × {table.shape[0]} in the calibration")
    values = _converted(found.values, found.unit, table.unit)
    axes: list[Axis | None] = []
    for number, axis in enumerate((table.x, table.y)):
        told = found.axes[number] if number < len(found.axes) else None
        axes.append(axis if axis is None or told is None else _taken_axis(axis, told, file))
    x, y = axes
    if x is None:
        raise BadInput("it has no axis")
    after = replace(table, x=x, y=y).with_grid(values)
    zones = table.zones if np.array_equal(after.grid, table.grid) or _zones_say(table, after) else ()
    return replace(after, zones=zones)


def _zones_say(table: Table, after: Table) -> bool:
    """Whether the table's polynomials give the values that were read."""
    return bool(table.zones) and bool(np.array_equal(table.with_zones(table.zones).grid, after.grid))


def _taken_axis(axis: Axis, told: CdfAxis, file: CdfFile) -> Axis:
    points, unit = told.points, told.unit
    if told.reference and not points.size:
        shared = file.instances.get(told.reference)
        if shared is None:
            raise BadInput(f"its axis {told.reference} is not in the file")
        points, unit = shared.values.ravel(), shared.unit or unit
    if points.size != axis.size:
        raise BadInput(f"{points.size} breakpoints in the file, {axis.size} in the calibration")
    points = _converted(points, unit, axis.unit)
    if np.array_equal(points, axis.breakpoints):
        return axis
    return Axis(axis.quantity, axis.unit, frozen(axis_of(axis.quantity, axis.unit, points.tolist(), "x").breakpoints))
