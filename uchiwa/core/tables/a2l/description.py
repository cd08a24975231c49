"""What an A2L file says of a controller: characteristics, axes, conversions, record layouts, memory, groups."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TypeVar

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.a2l.blocks import Block, read_blocks
from uchiwa.core.tables.a2l.conversion import NO_CONVERSION, Conversion, NotRepresentableError
from uchiwa.core.tables.a2l.record_layout import RecordLayout
from uchiwa.core.tables.a2l.tokens import as_text, plain

MOST = 500_000
_NESTED_GROUPS = 3000
_OPTIONS = {
    "BYTE_ORDER": 1, "BIT_MASK": 1, "EXTENDED_LIMITS": 2, "FORMAT": 1, "PHYS_UNIT": 1, "NUMBER": 1, "DEPOSIT": 1,
    "AXIS_PTS_REF": 1, "CURVE_AXIS_REF": 1, "FIX_AXIS_PAR": 3, "FIX_AXIS_PAR_DIST": 3, "DISPLAY_IDENTIFIER": 1,
    "COEFFS": 6, "COEFFS_LINEAR": 2, "COMPU_TAB_REF": 1, "REF_UNIT": 1, "STATUS_STRING_REF": 1, "ECU_ADDRESS": 1,
}  # fmt: skip
_ROOMS = {"VIRTUAL_CHARACTERISTIC": "it is worked out from others", "DEPENDENT_CHARACTERISTIC": "it follows others"}


@dataclass(frozen=True, slots=True)
class AxisDescription:
    """An AXIS_DESCR.

    Attributes:
        kind: `STD_AXIS`, `COM_AXIS`, `FIX_AXIS`, `RES_AXIS` or `CURVE_AXIS`.
        input: the measurement that is looked up along it.
        conversion: of its breakpoints, by name.
        most: breakpoints.
        points: name of the shared axis, if it is one.
        fixed: raw breakpoints, if they are fixed.
        unit: where the conversion's is not meant.
        order: of bytes, where it is not the module's.
    """

    kind: str
    input: str
    conversion: str
    most: int
    points: str = ""
    fixed: tuple[float, ...] = ()
    unit: str | None = None
    order: str = ""


@dataclass(frozen=True, slots=True)
class Characteristic:
    """A CHARACTERISTIC.

    Attributes:
        name, words: its name and long identifier.
        kind: `VALUE`, `CURVE`, `MAP`, `VAL_BLK`, …
        address, deposit, conversion: where it stands, in which record layout, by which conversion.
        low, high: limits of its values.
        axes: of a curve or map.
        format, unit: where the conversion's are not meant.
        order: of bytes, where it is not the module's.
        refused: why a layout cannot hold it, as far as its own words tell; empty if it may.
    """

    name: str
    words: str
    kind: str
    address: int
    deposit: str
    conversion: str
    low: float
    high: float
    axes: tuple[AxisDescription, ...] = ()
    format: str = ""
    unit: str | None = None
    order: str = ""
    refused: str = ""


@dataclass(frozen=True, slots=True)
class AxisPoints:
    """An AXIS_PTS: breakpoints that several curves and maps share."""

    name: str
    address: int
    input: str
    deposit: str
    conversion: str
    most: int
    unit: str | None = None
    order: str = ""


@dataclass(frozen=True, slots=True)
class MemorySegment:
    """A stretch of the controller's memory."""

    name: str
    program: str
    memory: str
    address: int
    size: int


@dataclass(frozen=True)
class Description:
    """A controller as an A2L file has it.

    Attributes:
        name, words: of the module.
        characteristics: in the file's order.
        axes, conversions, records: by name.
        inputs: long identifiers of measurements by name.
        groups: names of characteristics by group or function, those of groups within it too.
        segments: of the memory.
        order: of bytes: `big` or `little`.
        alignment: borders of numbers.
        identity: bytes that the program has at an address (EPK), if it says.
        notes: what to know of it, as sentences.
    """

    name: str
    words: str
    characteristics: tuple[Characteristic, ...]
    axes: Mapping[str, AxisPoints]
    conversions: Mapping[str, Conversion]
    records: Mapping[str, RecordLayout]
    faulty_records: Mapping[str, str]
    inputs: Mapping[str, str]
    groups: Mapping[str, tuple[str, ...]]
    segments: tuple[MemorySegment, ...]
    order: str
    alignment: Mapping[str, int]
    identity: tuple[int, bytes] | None
    notes: tuple[str, ...] = ()
    by_name: Mapping[str, Characteristic] = field(default_factory=dict)

    def conversion(self, name: str) -> Conversion:
        """A conversion by name.

        Raises:
            NotRepresentableError: there is none.
        """
        if name == NO_CONVERSION.name:
            return NO_CONVERSION
        found = self.conversions.get(name)
        if found is None:
            raise NotRepresentableError(f"the conversion {name} is not in the file")
        return found

    def record(self, name: str) -> RecordLayout:
        """A record layout by name.

        Raises:
            NotRepresentableError: there is none, or it is faulty.
        """
        found = self.records.get(name)
        if found is None:
            raise NotRepresentableError(self.faulty_records.get(name, f"the record layout {name} is not in the file"))
        return found


def read_description(data: bytes, name: str) -> Description:
    """A description from the bytes of an A2L file.

    Raises:
        BadInput: it is no A2L file, is cut off, or holds no characteristics; says the line.
    """
    whole = read_blocks(as_text(data, name), name)
    project = next(whole.of("PROJECT"), whole)
    modules = [block for block in project.of("MODULE") if next(block.of("CHARACTERISTIC"), None) is not None]
    if not modules:
        advice = "choose the .a2l file of the controller"
        raise BadInput("this is no ASAP2 description with characteristics", where=name, advice=advice)
    notes = []
    if len(modules) > 1:
        others = ", ".join(module.name for module in modules[1:])
        notes.append(f"the file describes several modules; {modules[0].name} is taken, {others} are left out")
    return _module(modules[0], name, notes)


def _module(block: Block, name: str, notes: list[str]) -> Description:
    found = list(block.of("CHARACTERISTIC"))
    if len(found) > MOST:
        raise BadInput(f"more than {MOST:,} characteristics", where=name, advice="export less of it")
    characteristics: dict[str, Characteristic] = {}
    faulty = doubled = 0
    for one in found:
        try:
            read = _characteristic(one)
        except (IndexError, ValueError):
            faulty += 1
            continue
        doubled += read.name in characteristics
        characteristics.setdefault(read.name, read)
    if faulty:
        notes.append(f"{faulty:,} characteristics are faulty and left out")
    if doubled:
        notes.append(f"{doubled:,} characteristics have a name that stood before, and are left out")
    if instances := sum(1 for _ in block.of("INSTANCE")):
        notes.append(f"{instances:,} instances of types are left out: a layout knows single characteristics")
    records, wrong = _records(block)
    order, alignment = _common(next(block.of("MOD_COMMON"), None), notes)
    parameters = next(block.of("MOD_PAR"), None)
    return Description(
        block.name, plain(block.words[1]) if len(block.words) > 1 else "", tuple(characteristics.values()),
        {one.name: one for one in _read_all(block.of("AXIS_PTS"), _axis_points)},
        {conversion.name: conversion for conversion in _read_all(block.of("COMPU_METHOD"), _conversion)},
        records, wrong,
        {one.name: plain(one.words[1]) for one in block.of("MEASUREMENT") if len(one.words) > 1},
        _groups(block), tuple(_segments(parameters)), order, alignment, _identity(parameters), tuple(notes),
        characteristics,
    )  # fmt: skip


_T = TypeVar("_T")


def _read_all(blocks: Iterator[Block], read: Callable[[Block], _T]) -> Iterator[_T]:
    """Each block as it reads; faulty ones are passed over, and whatever refers to them says so."""
    for block in blocks:
        try:
            yield read(block)
        except (IndexError, ValueError):
            continue


def _number(word: str) -> float:
    try:
        return float(word)
    except ValueError:
        return float(int(word, 0))


def _options(words: Sequence[str], first: int) -> dict[str, list[str]]:
    """Optional words of a block by their keyword."""
    found: dict[str, list[str]] = {}
    at = first
    while at < len(words):
        count = _OPTIONS.get(words[at])
        if count is None:
            at += 1
            continue
        found[words[at]] = [plain(word) for word in words[at + 1 : at + 1 + count]]
        at += 1 + count
    return found


def _said(options: Mapping[str, list[str]], key: str, otherwise: str = "") -> str:
    found = options.get(key)
    return found[0] if found else otherwise


def _characteristic(block: Block) -> Characteristic:
    words = block.words
    options = _options(words, 9) if len(words) > 9 else {}
    refused = next((said for one in block.blocks if (said := _ROOMS.get(one.keyword))), "")
    mask = int(_said(options, "BIT_MASK", "0"), 0)
    if mask and mask not in (0xFF, 0xFFFF, 0xFFFFFFFF, 0xFFFFFFFFFFFFFFFF):
        refused = refused or "it is some bits of a number"
    if words[2] not in ("VALUE", "CURVE", "MAP"):
        refused = refused or f"it is a {words[2]}, and a layout has values, curves and maps"
    return Characteristic(
        words[0], plain(words[1]), words[2], int(words[3], 0), words[4], words[6], _number(words[7]),
        _number(words[8]), tuple(_axis(one) for one in block.of("AXIS_DESCR")), _said(options, "FORMAT"),
        _said(options, "PHYS_UNIT") if "PHYS_UNIT" in options else None, _said(options, "BYTE_ORDER"), refused,
    )  # fmt: skip


def _axis(block: Block) -> AxisDescription:
    words, options = block.words, _options(block.words, 6)
    fixed: tuple[float, ...] = ()
    if (given := options.get("FIX_AXIS_PAR")) is not None:
        offset, shift, count = (_number(one) for one in given)
        fixed = tuple(offset + number * 2.0**shift for number in range(_few(count)))
    elif (given := options.get("FIX_AXIS_PAR_DIST")) is not None:
        offset, distance, count = (_number(one) for one in given)
        fixed = tuple(offset + number * distance for number in range(_few(count)))
    elif (listed := next(block.of("FIX_AXIS_PAR_LIST"), None)) is not None:
        fixed = tuple(_number(word) for word in listed.words)
    return AxisDescription(
        words[0], words[1], words[2], int(words[3], 0), _said(options, "AXIS_PTS_REF"), fixed,
        _said(options, "PHYS_UNIT") if "PHYS_UNIT" in options else None, _said(options, "BYTE_ORDER"),
    )  # fmt: skip


def _few(count: float) -> int:
    if not 0 <= count <= 4096:
        raise ValueError("no axis has so many breakpoints")
    return int(count)


def _axis_points(block: Block) -> AxisPoints:
    words, options = block.words, _options(block.words, 10)
    unit = _said(options, "PHYS_UNIT") if "PHYS_UNIT" in options else None
    return AxisPoints(
        words[0], int(words[2], 0), words[3], words[4], words[6], int(words[7], 0), unit, _said(options, "BYTE_ORDER")
    )


def _conversion(block: Block) -> Conversion:
    words, options = block.words, _options(block.words, 5)
    given = options.get("COEFFS" if words[2] == "RAT_FUNC" else "COEFFS_LINEAR", [])
    return Conversion(
        words[0], words[2], plain(words[3]), plain(words[4]).strip(), tuple(_number(one) for one in given)
    )


def _records(block: Block) -> tuple[dict[str, RecordLayout], dict[str, str]]:
    found: dict[str, RecordLayout] = {}
    wrong: dict[str, str] = {}
    for one in block.of("RECORD_LAYOUT"):
        try:
            found[one.name] = RecordLayout.read(one.words)
        except NotRepresentableError as error:
            wrong[one.name] = str(error)
    return found, wrong


def _common(block: Block | None, notes: list[str]) -> tuple[str, dict[str, int]]:
    """Byte order and alignment of the module."""
    alignment: dict[str, int] = {}
    order = ""
    words = block.words if block is not None else []
    for at, word in enumerate(words[:-1]):
        if word.startswith("ALIGNMENT_") and words[at + 1].isdigit():
            alignment[word.removeprefix("ALIGNMENT_")] = int(words[at + 1])
        elif word == "BYTE_ORDER":
            order = words[at + 1]
    if not order:
        notes.append("the file does not say the order of bytes; the highest first is taken")
    elif order in ("BIG_ENDIAN", "LITTLE_ENDIAN"):
        notes.append(f"the file says {order}, which has been used both ways: look at the first table’s values")
    return byte_order(order), alignment


def byte_order(word: str) -> str:
    """`big` or `little`, by the standard's word."""
    return "little" if word in ("MSB_LAST", "LITTLE_ENDIAN") else "big"


def _segments(block: Block | None) -> Iterator[MemorySegment]:
    for one in block.of("MEMORY_SEGMENT") if block is not None else ():
        try:
            words = one.words
            yield MemorySegment(words[0], words[2], words[3], int(words[5], 0), int(words[6], 0))
        except (IndexError, ValueError):
            continue


def _identity(block: Block | None) -> tuple[int, bytes] | None:
    words = block.words if block is not None else []
    said = {word: words[at + 1] for at, word in enumerate(words[:-1]) if word in ("ADDR_EPK", "EPK")}
    if set(said) != {"ADDR_EPK", "EPK"} or not plain(said["EPK"]):
        return None
    try:
        return int(said["ADDR_EPK"], 0), plain(said["EPK"]).encode("ascii")
    except ValueError:
        return None


def _groups(block: Block) -> dict[str, tuple[str, ...]]:
    """Names of characteristics by group and function, with those of the groups within; a circle is walked once."""
    own: dict[str, list[str]] = {}
    below: dict[str, list[str]] = {}
    for one in [*block.of("GROUP"), *block.of("FUNCTION")]:
        refs = [*one.of("REF_CHARACTERISTIC"), *one.of("DEF_CHARACTERISTIC")]
        own[one.name] = [word for ref in refs for word in ref.words]
        below[one.name] = [word for ref in [*one.of("SUB_GROUP"), *one.of("SUB_FUNCTION")] for word in ref.words]
    found: dict[str, tuple[str, ...]] = {}
    for name in own:
        seen: dict[str, None] = {}
        waiting, members = [name], dict[str, None](dict.fromkeys(own[name]))
        while waiting and len(own) <= _NESTED_GROUPS:
            here = waiting.pop()
            if here in seen:
                continue
            seen[here] = None
            members.update(dict.fromkeys(own.get(here, ())))
            waiting += below.get(here, ())
        if members:
            found[name] = tuple(members)
    return found
