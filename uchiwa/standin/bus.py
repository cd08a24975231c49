"""What a logger on a stand-in car's bus writes of a drive: frames as ASC, BLF, candump text or MDF 4, and their DBC."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, FloatArray, Log
from uchiwa.core.logs.readers.bus.frames import Frames

_NO_WORD = re.compile(r"\W+")

ENDINGS = ("asc", "blf", "log", "mf4")
_FIRST_ID, _EPOCH = 0x120, 1_700_000_000.0
_FEW_DIGITS, _MOST_DIGITS = 1, 6


@dataclass(frozen=True)
class _Placed:
    """A channel in a message: 32 bits, every second one in the other order of bytes."""

    channel: Channel
    name: str
    time: FloatArray
    identifier: int
    place: int
    scale: float

    @property
    def little(self) -> bool:
        return self.place % 2 == 0

    @property
    def line(self) -> str:
        """Its line of a DBC."""
        start = 32 * self.place if self.little else 32 * self.place + 7
        order = 1 if self.little else 0
        return f' SG_ {self.name} : {start}|32@{order}- ({self.scale:g},0) [0|0] "{self.channel.unit}" Vector__XXX'


def _placed(log: Log) -> list[_Placed]:
    """Two channels to a message, each with the digits that its readings show."""
    found: list[_Placed] = []
    identifier = _FIRST_ID
    seen: set[str] = set()
    for raster in log.rasters:
        for place, channel in enumerate(raster.channels):
            name = _NO_WORD.sub("_", channel.name).strip("_") or "Signal"
            name = name if name not in seen and name[0].isalpha() else f"{name}_{len(found)}"
            seen.add(name)
            found.append(
                _Placed(
                    channel, name, raster.time, identifier + place // 2, place % 2, 10.0 ** -_digits(channel.values)
                )
            )
        identifier += (len(raster.channels) + 1) // 2
    return found


def _digits(values: FloatArray) -> int:
    known = values[np.isfinite(values)]
    for digits in range(_FEW_DIGITS, _MOST_DIGITS):
        if np.array_equal(np.round(known, digits), known):
            return digits
    return _MOST_DIGITS


def dbc_of(log: Log) -> str:
    """The DBC of the frames that `write_bus` makes of the log."""
    lines = ['VERSION ""', "", "NS_ :", "", "BS_:", "", "BU_: Vector__XXX", ""]
    shown = 0
    for placed in _placed(log):
        if placed.identifier != shown:
            shown = placed.identifier
            lines += ["", f"BO_ {shown} Message_{shown:X}: 8 Vector__XXX"]
        lines.append(placed.line)
    return "\n".join([*lines, ""])


def frames_of(log: Log) -> Frames:
    """The frames: each message at each time of its raster; a reading that is not there is sent as 0."""
    time, identifier, data = [], [], []
    by_message: dict[int, list[_Placed]] = {}
    for placed in _placed(log):
        by_message.setdefault(placed.identifier, []).append(placed)
    for number, signals in by_message.items():
        words = np.zeros((signals[0].time.size, 8), dtype=np.uint8)
        for signal in signals:
            raw = np.round(np.nan_to_num(signal.channel.values) / signal.scale).astype(
                "<i4" if signal.little else ">i4"
            )
            words[:, 4 * signal.place : 4 * signal.place + 4] = raw.view(np.uint8).reshape(-1, 4)
        time.append(signals[0].time)
        identifier.append(np.full(signals[0].time.size, number))
        data.append(words)
    order = np.argsort(np.concatenate(time), kind="stable")
    size = order.size
    return Frames(
        np.concatenate(time)[order], np.concatenate(identifier)[order].astype(np.int64), np.zeros(size, dtype=np.bool_),
        np.full(size, 8), np.concatenate(data)[order],
    )  # fmt: skip


def write_bus(log: Log, ending: str) -> bytes:
    """The frames of a log as a file.

    Raises:
        BadInput: there is no such kind.
    """
    frames = frames_of(log)
    if ending == "mf4":
        return _as_mdf(frames)
    if ending == "log":
        from can.io.canutils import CanutilsLogWriter

        return _written(frames, CanutilsLogWriter, io.StringIO())
    if ending == "asc":
        from can.io.asc import ASCWriter

        return _written(frames, ASCWriter, io.StringIO())
    if ending == "blf":
        from can.io.blf import BLFWriter

        return _written(frames, BLFWriter, io.BytesIO())
    raise BadInput(f"frames are not written as “{ending}”", advice=f"the kinds are {', '.join(ENDINGS)}")


def _messages(frames: Frames) -> Iterator[Any]:
    from can import Message

    for row in range(frames.time.size):
        yield Message(
            timestamp=_EPOCH + float(frames.time[row]), arbitration_id=int(frames.identifier[row]),
            is_extended_id=bool(frames.extended[row]), data=frames.data[row, : int(frames.length[row])].tobytes(), channel=0,
        )  # fmt: skip


def _written(frames: Frames, writer: Any, file: io.StringIO | io.BytesIO) -> bytes:
    kept = bytearray()

    class Kept(type(file)):  # type: ignore[misc]
        def close(self) -> None:
            """Keep what was written: the writer closes its file."""
            value = self.getvalue()
            kept.extend(value.encode() if isinstance(value, str) else value)
            super().close()

    out = writer(Kept())
    for message in _messages(frames):
        out.on_message_received(message)
    out.stop()
    return bytes(kept)


def _as_mdf(frames: Frames) -> bytes:
    from asammdf import MDF, Signal

    size = frames.time.size
    fields = [
        ("BusChannel", "u1"),
        ("ID", "<u4"),
        ("IDE", "u1"),
        ("DLC", "u1"),
        ("DataLength", "u1"),
        ("DataBytes", "u1", (8,)),
    ]
    record = np.zeros(size, dtype=[(f"CAN_DataFrame.{name}", *rest) for name, *rest in fields])
    record["CAN_DataFrame.ID"], record["CAN_DataFrame.IDE"] = frames.identifier, frames.extended
    record["CAN_DataFrame.DLC"], record["CAN_DataFrame.DataLength"] = frames.length, frames.length
    record["CAN_DataFrame.DataBytes"], record["CAN_DataFrame.BusChannel"] = frames.data, 1
    file = io.BytesIO()
    with MDF(version="4.10") as mdf:
        mdf.append([Signal(record, frames.time, name="CAN_DataFrame")], comment="bus logging")
        mdf.save(file)
    return file.getvalue()
