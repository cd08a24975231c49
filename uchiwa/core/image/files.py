"""Image files: raw bytes, Intel HEX and Motorola S-records, by bincopy."""

from __future__ import annotations

import re
from typing import Literal

import bincopy

from uchiwa.core.errors import BadInput
from uchiwa.core.image.memory import Memory, Segment

ImageFormat = Literal["raw", "hex", "srec"]
FORMATS: dict[ImageFormat, tuple[str, str]] = {
    "raw": ("bin", "raw bytes"),
    "hex": ("hex", "Intel HEX"),
    "srec": ("s19", "Motorola S-record"),
}
"""File ending and words of each format."""
LARGEST = 16 * 2**20


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
    text = _text(data, name)
    _check_records(text, kind, name)
    file = bincopy.BinFile()
    try:
        file.add_ihex(text) if kind == "hex" else file.add_srec(text)
    except bincopy.Error as error:
        raise BadInput(
            f"the records cannot be put together ({_plainly(str(error))})", where=name, advice="export the image again"
        ) from None
    segments = [Segment(one.address, bytes(one.data)) for one in file.segments]
    if sum(len(one.data) for one in segments) > LARGEST:
        raise BadInput(f"an image may have up to {LARGEST // 2**20} MiB", where=name)
    return Memory.of(segments), kind


def _text(data: bytes, name: str) -> str:
    try:
        return data.decode("ascii")
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        raise BadInput(
            "this line holds bytes that no record has", where=f"{name}, line {line}", advice="export the image again"
        ) from None


def _check_records(text: str, kind: ImageFormat, name: str) -> None:
    """Raises BadInput at the first record that is broken, or if the file has no end."""
    unpack = bincopy.unpack_ihex if kind == "hex" else bincopy.unpack_srec
    ended, counted, records = False, False, 0
    for number, written in enumerate(text.splitlines(), 1):
        record, where = written.strip(), f"{name}, line {number}"
        if not record:
            continue
        if ended:
            raise BadInput("records follow the end record", where=where, advice="export it again")
        try:
            parts = unpack(record)
        except bincopy.Error as error:
            said = f"this record is broken ({_plainly(str(error))})"
            raise BadInput(said, where=where, advice="export the image again") from None
        except ValueError:
            raise BadInput("this is not a record", where=where, advice="export the image again") from None
        if kind == "hex":
            ended = parts[0] == 1
            continue
        if parts[0] in ("5", "6"):
            counted = True
            if parts[1] != records:
                said = f"the count record says {parts[1]} records and there are {records}"
                raise BadInput(said, where=where, advice="export the image again")
        records += parts[0] in ("1", "2", "3")
        ended = parts[0] in ("7", "8", "9")
    if not ended and not counted:
        raise BadInput("the end record is missing", where=name, advice="the file may be cut off: export it again")


def _plainly(text: str) -> str:
    return re.sub(r" in record .*?(?=, but|$)|\s+(?=\s)", "", text).strip().rstrip(".")[:120]


def write_image(memory: Memory, kind: ImageFormat) -> bytes:
    """An image as a file; a raw one has 0xFF between its segments.

    Raises:
        BadInput: a raw one would be too large.
    """
    file = bincopy.BinFile()
    for one in memory.segments:
        file.add_binary(one.data, one.address)
    if kind == "raw":
        if memory.end - memory.start > LARGEST:
            raise BadInput(f"its segments lie more than {LARGEST // 2**20} MiB apart", advice="write it as Intel HEX")
        return bytes(file.as_binary(padding=b"\xff"))
    bits = 16 if memory.end <= 0x10000 else 24 if memory.end <= 0x1000000 else 32
    if kind == "srec":
        file.execution_start_address = 0
    text = file.as_ihex(32) if kind == "hex" else file.as_srec(32, bits)
    return str(text).encode("ascii")
