"""How a number stands in an image: type, byte order, and the conversion to its value."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, get_args

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

NumberType = Literal["u8", "i8", "u16", "i16", "u32", "i32", "f32", "f64"]
ByteOrder = Literal["big", "little"]
TYPES: tuple[str, ...] = get_args(NumberType)
_CODES = {"u8": "u1", "i8": "i1", "u16": "u2", "i16": "i2", "u32": "u4", "i32": "i4", "f32": "f4", "f64": "f8"}


@dataclass(frozen=True)
class Rational:
    """A conversion `raw = (b·value + c) / (e·value + f)`, as ASAM MCD-2 MC has it with its squares left out.

    It turns one way only: b·f and c·e differ.
    """

    b: float
    c: float
    e: float
    f: float

    def raw(self, values: FloatArray) -> FloatArray:
        """Raw numbers of values, not rounded."""
        return np.asarray((self.b * values + self.c) / (self.e * values + self.f))

    def value(self, raw: FloatArray) -> FloatArray:
        """Values of raw numbers; infinite where the raw number stands for none."""
        return np.asarray((self.c - self.f * raw) / (self.e * raw - self.b))


@dataclass(frozen=True)
class Number:
    """A number's form in an image: value = raw · scale + offset, or by a rational conversion.

    Attributes:
        type: `u8` … `i32`, or `f32`, `f64` (IEEE 754).
        order: of its bytes.
        scale, offset: of the value; scale is not 0.
        rational: in their place.
    """

    type: NumberType
    order: ByteOrder = "big"
    scale: float = 1.0
    offset: float = 0.0
    rational: Rational | None = None

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
        return self.type not in ("f32", "f64")

    @property
    def ends(self) -> tuple[float, float]:
        """The lowest and the highest value it can hold."""
        if self.whole:
            info = np.iinfo(self.dtype)
            low, high = float(info.min), float(info.max)
        else:
            high = float(np.finfo(self.dtype).max)
            low = -high
        raw = np.array([low, high])
        if self.rational is not None and self.rational.e:
            pole = self.rational.b / self.rational.e
            raw = np.clip(np.array([low, np.ceil(pole) - 1, np.floor(pole) + 1, high]), low, high)
        values = self._value(raw)
        values = values[np.isfinite(values)]
        return float(values.min()), float(values.max())

    @property
    def step(self) -> float:
        """Distance of neighbouring values; 0 for a floating number, and where it is not the same everywhere."""
        return abs(self.scale) if self.whole and self.rational is None else 0.0

    def _value(self, raw: FloatArray) -> FloatArray:
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            if self.rational is not None:
                return self.rational.value(raw)
            return np.asarray(raw * self.scale + self.offset)

    def decode(self, data: bytes) -> FloatArray:
        """Values of consecutive numbers; shape (len(data) / size,)."""
        with np.errstate(invalid="ignore"):  # a signalling NaN is a NaN
            raw = np.frombuffer(data, dtype=self.dtype).astype(np.float64)
        return self._value(raw)

    def raw(self, values: FloatArray) -> FloatArray:
        """The nearest raw numbers, as floats, beyond the type's range where a value is."""
        with np.errstate(invalid="ignore", divide="ignore", over="ignore"):
            raw = (values - self.offset) / self.scale if self.rational is None else self.rational.raw(values)
            if self.whole:
                return np.round(raw)
            return np.asarray(raw.astype(self.dtype).astype(np.float64))

    def fits(self, values: FloatArray) -> BoolArray:
        """Which values the type can hold, to the nearest it has."""
        raw = self.raw(values)
        if not self.whole:
            return np.isfinite(raw)
        info = np.iinfo(self.dtype)
        return np.isfinite(self._value(raw)) & (raw >= info.min) & (raw <= info.max)

    def encode(self, values: FloatArray) -> bytes:
        """The bytes of values that fit."""
        return self.raw(values).astype(self.dtype).tobytes()

    def stored(self, values: FloatArray) -> FloatArray:
        """What the image gives back for values that fit."""
        return self._value(self.raw(values))
