"""What kind of file some bytes are, from a look at their beginning."""

from __future__ import annotations

import csv

_LOOK = 65536
_TEXT_CONTROLS = frozenset(b"\t\n\r\f\x1a")
DELIMITERS = (",", ";", "\t", "|")


def looks_binary(data: bytes) -> bool:
    """Whether the bytes are something other than text: a NUL, or more than 1 % control characters."""
    head = data[:_LOOK]
    controls = sum(1 for byte in head if byte < 32 and byte not in _TEXT_CONTROLS)
    return b"\0" in head or controls > len(head) / 100


def decode(data: bytes) -> str:
    """Text from UTF-8 (with or without a byte order mark), else from Latin-1, which has a letter for every byte."""
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")


def fields_of(line: str, delimiter: str) -> list[str]:
    """The fields of one line; a line that cannot be split is one field."""
    try:
        return next(csv.reader([line.replace("\r", " ")], delimiter=delimiter), [])
    except csv.Error:
        return [line]


def delimiter_of(header: str, row: str) -> str | None:
    """The delimiter that splits the header and the row below it into the same number of fields, at least two."""
    best: tuple[int, str] | None = None
    for delimiter in DELIMITERS:
        fields = min(len(fields_of(header, delimiter)), len(fields_of(row, delimiter)))
        if fields >= 2 and (best is None or fields > best[0]):
            best = (fields, delimiter)
    return best[1] if best else None
