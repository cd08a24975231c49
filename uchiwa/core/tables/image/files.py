"""Image files: raw bytes, Intel HEX and Motorola S-records, by bincopy."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import Any, Literal

import bincopy

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.image.memory import Memory, Segment

_RECORD_ITSELF = re.compile(r" in record .{0,60}?(?=, but|$)|(?<=\s)\s")

ImageFormat = Literal["raw", "hex", "srec"]
FORMATS: dict[ImageFormat, tuple[str, str]] = {
    "raw": ("bin", "raw bytes"),
    "hex": ("hex", "Intel HEX"),
    "srec": ("s19", "Motorola S-record"),
}
"""File ending and words of each format."""
LARGEST = 16 * 2**20
_START_RECORDS = (bincopy.IHEX_START_SEGMENT_ADDRESS, bincopy.IHEX_START_LINEAR_ADDRESS)


def image_format(name: str) -> ImageFormat:
    """A format by its name, as it is kept.

    Raises:
        ValueError: there is none of this name.
    """
    for format_ in FORMATS:
        if format_ == name:
            return format_
    raise ValueError(f"there is no image format “{name}”")


def recognised(data: bytes) -> ImageFormat:
    """The format of an image file, by how its first line that is not blank begins."""
    first = next((line for line in data[:4096].splitlines() if line.strip()), b"").strip()
    if not (first.isascii() and first.decode("ascii").isprintable()):
        return "raw"
    if first.startswith(b":"):
        return "hex"
    return "srec" if first[:1] == b"S" and first[1:2].isdigit() else "raw"


def read_image(data: bytes, name: str, base: int = 0) -> tuple[Memory, ImageFormat]:
    """The bytes of an image file by address.

    Args:
        base: address of the first byte of a raw file.

    Raises:
        BadInput: empty, too large, or a record is broken; says which line.
    """
    if not data.strip():
        raise BadInput("the file is empty", where=name, advice="choose an image")
    kind = recognised(data)
    if kind == "raw":
        if len(data) > LARGEST:
            raise BadInput(f"an image may have up to {LARGEST // 2**20} MiB", where=name)
        return Memory.of([Segment(base, data)]), kind
    segments = _records(_text(data, name), kind, name)
    if sum(len(segment.data) for segment in segments) > LARGEST:
        raise BadInput(f"an image may have up to {LARGEST // 2**20} MiB", where=name)
    try:
        return Memory.of(segments), kind
    except BadInput as error:
        raise BadInput(error.what, where=name, advice=error.advice) from None


def _text(data: bytes, name: str) -> str:
    try:
        return data.decode("ascii")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise BadInput(
            "this line holds bytes that no record has", where=f"{name}, line {line}", advice="export the image again"
        ) from None


_AGAIN = "export the image again"


@dataclass
class _Records:
    """Records read one after the other: the bytes of each with their address, and whether the end was seen."""

    found: list[Segment] = field(default_factory=list)
    base: int = 0
    ended: bool = False
    counted: bool = False

    def hex(self, parts: tuple[Any, ...], where: str) -> None:
        """A record of an Intel HEX file: type, address, size, data."""
        kind, at, data = parts[0], parts[1], bytes(parts[3])
        self.ended = kind == bincopy.IHEX_END_OF_FILE
        if kind == bincopy.IHEX_DATA:
            self.found.append(Segment(self.base + at, data))
        elif kind in (bincopy.IHEX_EXTENDED_SEGMENT_ADDRESS, bincopy.IHEX_EXTENDED_LINEAR_ADDRESS):
            shift = 4 if kind == bincopy.IHEX_EXTENDED_SEGMENT_ADDRESS else 16
            self.base = int.from_bytes(data, "big") << shift
        elif kind not in _START_RECORDS and not self.ended:
            raise BadInput(f"records of type {kind} are not known", where=where, advice="export it again")

    def srec(self, parts: tuple[Any, ...], where: str) -> None:
        """A record of a Motorola S-record file: type, address, size, data."""
        kind, at, data = parts[0], parts[1], bytes(parts[3])
        if kind in ("5", "6"):
            self.counted = True
            if at != len(self.found):
                said = f"the count record says {at} records and there are {len(self.found)}"
                raise BadInput(said, where=where, advice=_AGAIN)
        if kind in ("1", "2", "3"):
            self.found.append(Segment(at, data))
        self.ended = kind in ("7", "8", "9")


def _records(text: str, kind: ImageFormat, name: str) -> list[Segment]:
    """The bytes of each record with their address.

    Raises:
        BadInput: a record is broken; says which line. Or the file has no end.
    """
    records = _Records()
    unpack, take = (bincopy.unpack_ihex, records.hex) if kind == "hex" else (bincopy.unpack_srec, records.srec)
    for number, written in enumerate(text.splitlines(), 1):
        record, where = written.strip(), f"{name}, line {number}"
        if not record:
            continue
        if records.ended:
            raise BadInput("records follow the end record", where=where, advice="export it again")
        try:
            parts = unpack(record)
        except bincopy.Error as error:
            said = f"this record is broken ({_plainly(str(error))})"
            raise BadInput(said, where=where, advice=_AGAIN) from None
        except ValueError:
            raise BadInput("this is not a record", where=where, advice=_AGAIN) from None
        take(parts, where)
    if not records.ended and not records.counted:
        raise BadInput("the end record is missing", where=name, advice="the file may be cut off: export it again")
    return records.found


def _plainly(text: str) -> str:
    return _RECORD_ITSELF.sub("", text[:2000]).strip().rstrip(".")[:120]


def write_image(memory: Memory, kind: ImageFormat) -> bytes:
    """An image as a file; a raw one has 0xFF between its segments.

    Raises:
        BadInput: a raw one would be too large.
    """
    file = bincopy.BinFile()
    for segment in memory.segments:
        file.add_binary(segment.data, segment.address)
    if kind == "raw":
        if memory.end - memory.start > LARGEST:
            raise BadInput(f"its segments lie more than {LARGEST // 2**20} MiB apart", advice="write it as Intel HEX")
        return bytes(file.as_binary(padding=b"\xff"))
    bits = 16 if memory.end <= 0x10000 else 24 if memory.end <= 0x1000000 else 32
    if kind == "srec":
        file.execution_start_address = 0
    text = file.as_ihex(32) if kind == "hex" else file.as_srec(32, bits)
    return str(text).encode("ascii")
