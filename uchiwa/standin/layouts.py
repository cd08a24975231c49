"""The stand-in cars' images: their layouts, and the images they come with."""

from __future__ import annotations

import json
from functools import lru_cache
from typing import Any

import numpy as np

from uchiwa.core.tables.image.content import read_calibration, write_calibration
from uchiwa.core.tables.image.layout import Layout
from uchiwa.core.tables.image.layout_json import FORMAT, loads
from uchiwa.core.tables.image.memory import Memory, Segment
from uchiwa.core.tables.table import Axis, Calibration, Table
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.fleet import car_named

_BASE, _SIZE, _DATA = 0x8000, 0x4000, 0x1000
_AXES = {
    "engine_speed": ("u16", 1.0, 0.0),
    "manifold_pressure": ("u16", 0.1, 0.0),
    "pressure_ratio": ("u16", 0.001, 0.0),
    "coolant_temperature": ("u8", 1.0, -40.0),
    "airflow_frequency": ("u16", 1.0, 0.0),
    "airflow_voltage": ("u16", 0.001, 0.0),
    "in_gear": ("u8", 1.0, 0.0),
}
_VALUES = {
    "volumetric_efficiency": ("u16", 0.1, 0.0),
    "maf_curve": ("u16", 0.01, 0.0),
    "lambda_target": ("u16", 0.001, 0.0),
    "spark_advance": ("i16", 0.1, 0.0),
    "warmup_factor": ("u16", 0.1, 0.0),
    "idle_airflow": ("u16", 0.01, 0.0),
    "cold_lambda_offset": ("i16", 0.001, 0.0),
    "airflow_clamp": ("u16", 0.001, 0.0),
}
_CONSTANTS = {
    "displacement": ("u16", 0.001, 0.0),
    "cylinders": ("u8", 1.0, 0.0),
    "stoichiometric_ratio": ("u16", 0.01, 0.0),
    "injector_flow": ("f32", 1.0, 0.0),
    "injector_dead_time": ("u16", 0.001, 0.0),
}
_BYTES = {"u8": 1, "u16": 2, "i16": 2, "f32": 4}


class _Room:
    """Hands out addresses, each part at an even one."""

    def __init__(self, address: int) -> None:
        self.address = address

    def take(self, length: int) -> str:
        start = self.address
        self.address += length + length % 2
        return f"0x{start:X}"


def layout_data(car: StandInCar) -> dict[str, Any]:
    """A car's layout as plain JSON data: breakpoints shared by the tables over the same axes, big-endian."""
    base = car.base()
    room, axes = _Room(_BASE + _DATA), {}

    def axis(one: Axis) -> dict[str, Any]:
        key = (one.quantity, tuple(one.breakpoints.tolist()))
        kind, scale, offset = _AXES[one.quantity]
        if key not in axes:
            axes[key] = room.take(one.size * _BYTES[kind])
        place = {"quantity": one.quantity, "unit": one.unit, "address": axes[key], "type": kind, "count": one.size}
        return place | _scaled(scale, offset)

    def table(one: Table) -> dict[str, Any]:
        kind, scale, offset = _VALUES[one.role]
        part: dict[str, Any] = {"id": one.id, "title": one.title, "role": one.role, "unit": one.unit, "x": axis(one.x)}
        if one.y is not None:
            part["y"] = axis(one.y)
        part |= {"address": room.take(one.values.size * _BYTES[kind]), "type": kind} | _scaled(scale, offset)
        return part | {"minimum": one.minimum, "maximum": one.maximum, "decimals": one.decimals}

    constants = []
    for constant in base.constants:
        kind, scale, offset = _CONSTANTS.get(constant.role, ("u8", 1.0, 0.0))
        part = {"id": constant.id, "role": constant.role, "unit": constant.unit}
        constants.append(part | {"address": room.take(_BYTES[kind]), "type": kind} | _scaled(scale, offset))
    tables = [table(one) for one in base.tables]
    end = _BASE + _SIZE
    return {
        "format": FORMAT,
        "id": f"{car.id}-image",
        "title": f"{car.title}, 16 KiB",
        "calibration": {"id": base.id, "title": base.title},
        "base": f"0x{_BASE:X}",
        "size": _SIZE,
        "byte_order": "big",
        "identity": [{"address": f"0x{_BASE + 0x20:X}", "text": identity_of(car)}],
        "constants": constants,
        "tables": tables,
        "checksums": [
            {"kind": "crc16-ccitt", "ranges": [[f"0x{_BASE + _DATA:X}", f"0x{end - 0x10:X}"]], "address": f"0x{end - 8:X}"},
            {"kind": "sum16", "ranges": [[f"0x{_BASE:X}", f"0x{end - 6:X}"]], "address": f"0x{end - 2:X}", "complement": True},
        ],
    }  # fmt: skip


def _scaled(scale: float, offset: float) -> dict[str, float]:
    return ({"scale": scale} if scale != 1.0 else {}) | ({"offset": offset} if offset else {})


def identity_of(car: StandInCar) -> str:
    """What stands at the beginning of a car's images."""
    return f"STAND-IN {car.id.upper()} 01"[:31]


def layout_of(car: StandInCar) -> Layout:
    """A car's layout."""
    return _layout(car.id)


@lru_cache
def _layout(car_id: str) -> Layout:
    return loads(json.dumps(layout_data(car_named(car_id))), f"{car_id}.layout.json")


def image_of(car: StandInCar) -> Memory:
    """The image that a car comes with: its base calibration amid a program's bytes."""
    return _image(car.id)


@lru_cache
def _image(car_id: str) -> Memory:
    car = car_named(car_id)
    layout = layout_of(car)
    program = np.random.default_rng(sum(car.id.encode())).integers(0, 256, _SIZE, dtype=np.uint8)
    program[_DATA:] = 0xFF
    memory = Memory.of([Segment(_BASE, program.tobytes())])
    memory = memory.with_bytes([(identity.address, identity.data) for identity in layout.identities])
    for checksum in layout.checksums:
        data = b"".join(memory.read(start, stop - start) for start, stop in checksum.ranges)
        memory = memory.with_bytes([(checksum.address, checksum.written(data))])
    return write_calibration(memory, layout, car.base()).memory


def flash(car: StandInCar, memory: Memory, name: str = "image") -> Calibration:
    """What the car's controller runs after taking an image; the flasher verifies it first.

    Raises:
        BadInput: size, identity, checksums or axes are not those of this car's controller; nothing is flashed.
    """
    return read_calibration(memory, layout_of(car), name)
