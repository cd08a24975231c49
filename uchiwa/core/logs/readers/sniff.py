"""What kind of file some bytes are, from a look at their beginning, and text from any encoding as UTF-8."""

from __future__ import annotations

import codecs
from enum import StrEnum

_LOOK = 65536
_PIECE = 1 << 20
_TEXT_CONTROLS = frozenset(b"\t\n\r\f\x1a")


class Kind(StrEnum):
    """Kinds of file that can hold a log."""

    GZIP = "gzip"
    ZIP = "zip"
    MDF = "mdf"
    PARQUET = "parquet"
    ARROW = "arrow"
    TEXT = "text"
    OTHER = "other"


def kind_of(data: bytes) -> Kind:
    """The kind of a file by its first bytes; the file's name is not believed."""
    if data.startswith(b"\x1f\x8b"):
        return Kind.GZIP
    if data.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return Kind.ZIP
    if data.startswith((b"MDF     ", b"UnFinMF ")):
        return Kind.MDF
    if data.startswith(b"PAR1"):
        return Kind.PARQUET
    if data.startswith(b"ARROW1"):
        return Kind.ARROW
    return Kind.TEXT if wide_text(data) or not looks_binary(data) else Kind.OTHER


def wide_text(data: bytes) -> str | None:
    """The UTF-16 codec of the bytes, by their mark or by a NUL in every second place; None if they are not UTF-16."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "utf-16"
    head = data[:512]
    if len(head) < 8:
        return None
    half = len(head) // 2
    odd, even = head[1::2].count(0), head[::2].count(0)
    if odd > 0.9 * half and even == 0:
        return "utf-16-le"
    if even > 0.9 * half and odd == 0:
        return "utf-16-be"
    return None


def looks_binary(data: bytes) -> bool:
    """Whether the bytes are something other than text: a NUL, or more than 1 % control characters."""
    head = data[:_LOOK]
    controls = sum(1 for byte in head if byte < 32 and byte not in _TEXT_CONTROLS)
    return b"\0" in head or controls > len(head) / 100


def _is_utf8(data: bytes) -> bool:
    decoder = codecs.getincrementaldecoder("utf-8")()
    try:
        for at in range(0, len(data), _PIECE):
            decoder.decode(data[at : at + _PIECE])
        decoder.decode(b"", final=True)
    except UnicodeDecodeError:
        return False
    return True


def as_utf8(data: bytes) -> bytes:
    """Text as UTF-8 without a mark: from UTF-8, UTF-16, or else Latin-1, which has a letter for every byte."""
    wide = wide_text(data)
    if wide is not None:
        return data.decode(wide, "replace").lstrip("\ufeff").encode()
    if data.startswith(codecs.BOM_UTF8):
        data = data[3:]
    if data.isascii() or _is_utf8(data):
        return data
    return data.decode("latin-1").encode()
