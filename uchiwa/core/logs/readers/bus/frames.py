"""Frames of a bus recording as arrays, by python-can: ASC, BLF and candump text; frames of other files by their arrays."""

from __future__ import annotations

import io
import re
from dataclasses import dataclass
from enum import StrEnum
from itertools import islice
from typing import Any

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.words.sentence import N_, Sentence

MOST = 8_000_000
LONGEST = 64
_STANDARD = 8
_CANDUMP = re.compile(rb"[ \t]{0,8}\(\d{1,20}\.\d{1,20}\)[ \t]{1,8}[^\s]{1,99}[ \t]{1,8}[0-9A-Fa-f]{3,8}#")
_ASC = re.compile(rb"[ \t]{0,8}(date\s|base[ \t]{1,8}(hex|dec)\b|//[ \t]{0,8}version)", re.IGNORECASE)
_ASC_BASE = re.compile(rb"^[ \t]{0,8}base[ \t]{1,8}(hex|dec)[ \t]{1,8}timestamps", re.MULTILINE | re.IGNORECASE)


class BusKind(StrEnum):
    """Kinds of file that hold frames."""

    ASC = "asc"
    BLF = "blf"
    CANDUMP = "candump"


@dataclass(frozen=True, eq=False)
class Frames:
    """Data frames in rising order of time; arrays of shape (n,).

    Attributes:
        time: s.
        identifier: of the frame, without the mark of an extended one.
        extended: whether it has 29 bits.
        length: bytes of data.
        data: zero beyond their length; shape (n, 8) or (n, 64).
    """

    time: FloatArray
    identifier: IntArray
    extended: BoolArray
    length: IntArray
    data: NDArray[np.uint8]

    def of(self, chosen: BoolArray) -> Frames:
        """Some of them."""
        return Frames(
            self.time[chosen], self.identifier[chosen], self.extended[chosen], self.length[chosen], self.data[chosen]
        )


def bus_kind(data: bytes) -> BusKind | None:
    """Whether a file holds frames, by its first bytes."""
    if data.startswith(b"LOGG"):
        return BusKind.BLF
    head = data[:4096]
    if _CANDUMP.match(head.split(b"\n", 1)[0]):
        return BusKind.CANDUMP
    first = head.lstrip(b"\xef\xbb\xbf\r\n ").split(b"\n", 1)[0]
    if _ASC.match(first) and _ASC_BASE.search(head):
        return BusKind.ASC
    return None


def read_frames(kind: BusKind, data: bytes) -> Frames:
    """The data frames of a file; those of errors and requests are passed over. Anything may be raised for a damaged file.

    Raises:
        BadInput: it holds more than can be read at once.
    """
    reader = _reader(kind, data)
    time: list[float] = []
    identifier: list[int] = []
    extended: list[bool] = []
    content: list[bytes] = []
    for message in islice(reader, MOST + 1):
        if message.is_error_frame or message.is_remote_frame or not message.data:
            continue
        time.append(message.timestamp)
        identifier.append(message.arbitration_id)
        extended.append(message.is_extended_id)
        content.append(bytes(message.data[:LONGEST]))
    if len(time) > MOST:
        raise BadInput(Sentence("it holds more than {most} frames", most=MOST), advice=N_("record one drive to a file"))
    length = np.array([len(one) for one in content], dtype=np.int64)
    width = _STANDARD if not length.size or length.max() <= _STANDARD else LONGEST
    packed = b"".join(one.ljust(width, b"\0") for one in content)
    frames = Frames(
        np.array(time, dtype=np.float64), np.array(identifier, dtype=np.int64), np.array(extended, dtype=np.bool_),
        length, np.frombuffer(packed, dtype=np.uint8).reshape(-1, width),
    )  # fmt: skip
    return in_order(frames)


def in_order(frames: Frames) -> Frames:
    """The same by time: buses that were recorded together come one after the other in some files."""
    if (np.diff(frames.time) >= 0).all():
        return frames
    order = np.argsort(frames.time, kind="stable")
    return Frames(
        frames.time[order], frames.identifier[order], frames.extended[order], frames.length[order], frames.data[order]
    )


def _reader(kind: BusKind, data: bytes) -> Any:
    """python-can's reader; imported here, for only a child process needs it."""
    if kind is BusKind.BLF:
        from uchiwa.core.logs.readers.bus.blf import AdvancingReader

        return AdvancingReader(io.BytesIO(data))
    text = io.StringIO(data.decode("utf-8", "replace"))
    if kind is BusKind.ASC:
        from can.io.asc import ASCReader

        return ASCReader(text, relative_timestamp=True)
    from can.io.canutils import CanutilsLogReader

    return CanutilsLogReader(text)
