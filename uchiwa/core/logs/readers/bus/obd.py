"""Replies of a car to requests of its current data (OBD, SAE J1979 service 01) among the frames of a bus.

Replies come on 0x7E8 … 0x7EF, or 0x18DAF100 … 0x18DAF1FF with 29 bits, packed by ISO 15765-2: one frame, or a first one with
others that follow. A reply may hold several values one after the other.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray
from uchiwa.core.logs.readers.bus.frames import Frames

_SERVICE = 0x41
_LONGEST = 256


@dataclass(frozen=True)
class Value:
    """A value of a reply.

    Attributes:
        name, unit: as the log has them.
        first, length: bytes of the reply's data that it stands in.
        scale, offset: value = number · scale + offset; the number's highest byte comes first.
        signed: whether it is in two's complement.
    """

    name: str
    unit: str
    first: int
    length: int
    scale: float
    offset: float = 0.0


_TRIM = (100.0 / 128.0, -100.0)
_SHARE = 100.0 / 255.0
PARAMETERS: dict[int, tuple[int, tuple[Value, ...]]] = {
    0x04: (1, (Value("Calculated load", "%", 0, 1, _SHARE),)),
    0x05: (1, (Value("Coolant temperature", "°C", 0, 1, 1.0, -40.0),)),
    0x06: (1, (Value("Short term fuel trim", "%", 0, 1, *_TRIM),)),
    0x07: (1, (Value("Long term fuel trim", "%", 0, 1, *_TRIM),)),
    0x08: (1, (Value("Short term fuel trim bank 2", "%", 0, 1, *_TRIM),)),
    0x09: (1, (Value("Long term fuel trim bank 2", "%", 0, 1, *_TRIM),)),
    0x0A: (1, (Value("Fuel pressure", "kPa", 0, 1, 3.0),)),
    0x0B: (1, (Value("Manifold absolute pressure", "kPa", 0, 1, 1.0),)),
    0x0C: (2, (Value("Engine speed", "rpm", 0, 2, 0.25),)),
    0x0D: (1, (Value("Vehicle speed", "km/h", 0, 1, 1.0),)),
    0x0E: (1, (Value("Spark advance", "deg", 0, 1, 0.5, -64.0),)),
    0x0F: (1, (Value("Intake air temperature", "°C", 0, 1, 1.0, -40.0),)),
    0x10: (2, (Value("Airflow", "g/s", 0, 2, 0.01),)),
    0x11: (1, (Value("Throttle position", "%", 0, 1, _SHARE),)),
    0x24: (4, (Value("Lambda measured", "", 0, 2, 2.0 / 65536.0),)),
    0x28: (4, (Value("Lambda measured bank 2", "", 0, 2, 2.0 / 65536.0),)),
    0x33: (1, (Value("Barometric pressure", "kPa", 0, 1, 1.0),)),
    0x34: (4, (Value("Lambda measured", "", 0, 2, 2.0 / 65536.0),)),
    0x38: (4, (Value("Lambda measured bank 2", "", 0, 2, 2.0 / 65536.0),)),
    0x42: (2, (Value("Battery voltage", "V", 0, 2, 0.001),)),
    0x43: (2, (Value("Engine load", "%", 0, 2, _SHARE),)),
    0x44: (2, (Value("Lambda target", "", 0, 2, 2.0 / 65536.0),)),
    0x45: (1, (Value("Relative throttle position", "%", 0, 1, _SHARE),)),
    0x46: (1, (Value("Ambient air temperature", "°C", 0, 1, 1.0, -40.0),)),
    0x49: (1, (Value("Pedal position", "%", 0, 1, _SHARE),)),
    0x52: (1, (Value("Ethanol content", "%", 0, 1, _SHARE),)),
    0x5C: (1, (Value("Oil temperature", "°C", 0, 1, 1.0, -40.0),)),
}
"""By parameter: bytes of its data, and the values in them (SAE J1979, annex B)."""
_OTHERS = {0x01: 4, 0x03: 2, 0x12: 1, 0x13: 1, 0x14: 2, 0x15: 2, 0x16: 2, 0x17: 2, 0x1C: 1, 0x1F: 2, 0x21: 2, 0x2E: 1, 0x2F: 1, 0x31: 2, 0x47: 1, 0x4A: 1, 0x4C: 1, 0x5E: 2}  # fmt: skip
"""Bytes of parameters that are passed over, so that what follows them in a reply is found."""


def are_replies(frames: Frames) -> BoolArray:
    """Which frames come from where replies do; shape (n,)."""
    short = ~frames.extended & (frames.identifier >= 0x7E8) & (frames.identifier <= 0x7EF)
    long = frames.extended & ((frames.identifier & 0x1FFFFF00) == 0x18DAF100)
    found: BoolArray = short | long
    return found


def obd_values(frames: Frames) -> dict[tuple[str, str], tuple[list[float], list[float]]]:
    """Times and values of each parameter that was answered, by name and unit."""
    found: dict[tuple[str, str], tuple[list[float], list[float]]] = {}
    for time, reply in _replies(frames.of(are_replies(frames))):
        for value, number in _read(reply):
            times, values = found.setdefault((value.name, value.unit), ([], []))
            times.append(time)
            values.append(number * value.scale + value.offset)
    return found


def _read(reply: bytes) -> Iterator[tuple[Value, int]]:
    """Every value of one reply."""
    if len(reply) < 3 or reply[0] != _SERVICE:
        return
    at = 1
    while at < len(reply):
        parameter = reply[at]
        length, values = PARAMETERS.get(parameter, (_OTHERS.get(parameter, 0), ()))
        data = reply[at + 1 : at + 1 + length]
        if not length or len(data) < length:
            return
        for value in values:
            yield value, int.from_bytes(data[value.first : value.first + value.length], "big")
        at += 1 + length


def _replies(frames: Frames) -> Iterator[tuple[float, bytes]]:
    """Whole replies with the time of their first frame; one that breaks off is dropped."""
    open_: dict[tuple[int, bool], tuple[float, bytearray, int, int]] = {}
    for row in range(frames.time.size):
        key = (int(frames.identifier[row]), bool(frames.extended[row]))
        data = frames.data[row, : int(frames.length[row])].tobytes()
        kind = data[0] >> 4
        if kind == 0:
            yield float(frames.time[row]), data[1 : 1 + (data[0] & 0x0F)]
            open_.pop(key, None)
        elif kind == 1 and len(data) >= 3:
            length = ((data[0] & 0x0F) << 8) | data[1]
            if length <= _LONGEST:
                open_[key] = (float(frames.time[row]), bytearray(data[2:]), length, 1)
        elif kind == 2 and key in open_:
            began, so_far, length, number = open_.pop(key)
            if data[0] & 0x0F != number & 0x0F:
                continue
            so_far += data[1:]
            if len(so_far) >= length:
                yield began, bytes(so_far[:length])
            else:
                open_[key] = (began, so_far, length, number + 1)


def as_arrays(times: list[float], values: list[float]) -> tuple[np.ndarray, np.ndarray]:
    """Lists as arrays."""
    return np.array(times, dtype=np.float64), np.array(values, dtype=np.float64)
