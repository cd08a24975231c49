"""How a number stands in an image: type, byte order, scale and offset."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, get_args

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

NumberType = Literal["u8", "i8", "u16", "i16", "u32", "i32", "f32"]
ByteOrder = Literal["big", "little"]
TYPES: tuple[str, ...] = get_args(NumberType)
_CODES = {"u8": "u1", "i8": "i1", "u16": "u2", "i16": "i2", "u32": "u4", "i32": "i4", "f32": "f4"}


@dataclass(frozen=True)
class Number:
    """A number's form in an image: value = raw · scale + offset.

    Attributes:
        type: `u8` … `i32`, or `f32` (IEEE 754 single).
        order: of its bytes.
        scale, offset: of the value; scale is not 0.
    """

    type: NumberType
    order: ByteOrder = "big"
    scale: float = 1.0
    offset: float = 0.0

    @property
    def dtype(self) -> np.dtype[Any]:
        """As numpy has it."""
        return np.dtype(("<" if self.order == "little" else ">") + _CODES[self.type])

    @property
    def size(self) -> int:
        """Bytes of one number."""
        return int(self.dtype.itemsize)

    @property
    def whole(self) -> bool:
        """Whether raw numbers are whole."""
        return self.type != "f32"

    @property
    def ends(self) -> tuple[float, float]:
        """The lowest and the highest value it can hold."""
        if self.whole:
            info = np.iinfo(self.dtype)
            low, high = float(info.min), float(info.max)
        else:
            high = float(np.finfo(np.float32).max)
            low = -high
        ends = sorted((low * self.scale + self.offset, high * self.scale + self.offset))
        return ends[0], ends[1]

    @property
    def step(self) -> float:
        """Distance of neighbouring values; 0 for a floating number."""
        return abs(self.scale) if self.whole else 0.0

    def decode(self, data: bytes) -> FloatArray:
        """Values of consecutive numbers; shape (len(data) / size,)."""
        with np.errstate(invalid="ignore"):  # a signalling NaN is a NaN
            raw = np.frombuffer(data, dtype=self.dtype).astype(np.float64)
        values: FloatArray = raw * self.scale + self.offset
        return values

    def raw(self, values: FloatArray) -> FloatArray:
        """The nearest raw numbers, as floats, beyond the type's range where a value is."""
        raw = (values - self.offset) / self.scale
        if self.whole:
            return np.round(raw)
        with np.errstate(over="ignore"):
            return raw.astype(np.float32).astype(np.float64)

    def fits(self, values: FloatArray) -> BoolArray:
        """Which values the type can hold, to the nearest it has."""
        raw = self.raw(values)
        if not self.whole:
            return np.isfinite(raw)
        info = np.iinfo(self.dtype)
        return np.isfinite(raw) & (raw >= info.min) & (raw <= info.max)

    def encode(self, values: FloatArray) -> bytes:
        """The bytes of values that fit."""
        return self.raw(values).astype(self.dtype).tobytes()

    def stored(self, values: FloatArray) -> FloatArray:
        """What the image gives back for values that fit."""
        kept: FloatArray = self.raw(values) * self.scale + self.offset
        return kept
