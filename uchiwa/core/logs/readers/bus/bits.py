"""Numbers out of the bits of frames, many frames at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.logs.log import FloatArray

_WIDEST = 64


def raw_numbers(
    data: NDArray[np.uint8], start: int, length: int, *, little: bool, signed: bool, floating: bool = False
) -> FloatArray:
    """The raw numbers of a signal; shape (n,).

    Args:
        data: bytes of the frames; shape (n, width).
        start: bit of the signal as a DBC counts it: the lowest bit of a little-endian signal, the highest of a big-endian
            one, bit 0 being the lowest of the first byte.
        length: in bits, up to 64.
        little: whether the lowest bits come first.
        signed: whether they are in two's complement.
        floating: whether they are an IEEE 754 number of 16, 32 or 64 bits.

    Raises:
        ValueError: the signal does not lie within the frame.
    """
    first = start if little else 8 * (start // 8) + 7 - start % 8
    last = first + length - 1
    if not 0 < length <= _WIDEST or first < 0 or last >= 8 * data.shape[1]:
        raise ValueError("the signal lies outside its frame")
    low, high = first // 8, last // 8
    parts = data[:, low : high + 1].astype(np.uint64)
    if not little:
        parts = parts[:, ::-1]  # the least significant byte first, as in a little-endian signal
    shift = first - 8 * low if little else 8 * (high + 1) - 1 - last
    raw = np.zeros(data.shape[0], dtype=np.uint64)
    for place in range(parts.shape[1]):
        at = 8 * place - shift
        if at >= _WIDEST:
            continue
        raw |= parts[:, place] << np.uint64(at) if at >= 0 else parts[:, place] >> np.uint64(-at)
    if length < _WIDEST:
        raw &= np.uint64((1 << length) - 1)
    if floating:
        code = {16: "<f2", 32: "<f4", 64: "<f8"}.get(length)
        if code is None:
            raise ValueError("no floating number has so many bits")
        return raw.astype(f"<u{length // 8}").view(code).astype(np.float64)
    if signed:
        if length == _WIDEST:
            return raw.view(np.int64).astype(np.float64)
        edge = np.uint64(1 << (length - 1))
        whole = raw.astype(np.int64)
        return np.where(raw & edge, whole - (1 << length), whole).astype(np.float64)
    return raw.astype(np.float64)
