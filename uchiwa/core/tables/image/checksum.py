"""Checksums over ranges of an image."""

from __future__ import annotations

import zlib
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from fastcrc import crc16

from uchiwa.core.tables.image.number import ByteOrder

Ranges = tuple[tuple[int, int], ...]


def _sum(width: int, order: str) -> Callable[[bytes], int]:
    code = f"{'>' if order == 'big' else '<'}u{width // 8}"

    def total(data: bytes) -> int:
        padded = data + bytes(-len(data) % (width // 8))
        whole: int = int(np.frombuffer(padded, dtype=code).astype(np.uint64).sum()) & (2**width - 1)
        return whole

    return total


WIDTHS = {"sum8": 8, "sum16": 16, "sum32": 32, "bytes16": 16, "bytes32": 32, "crc16-ccitt": 16, "crc16-arc": 16, "crc32": 32}  # fmt: skip
"""Kinds and their width in bits. `sum8/16/32` add numbers of their own width, `bytes16/32` add single bytes;
`crc16-ccitt` has polynomial 0x1021 and starts at 0xFFFF, `crc16-arc` is the reflected 0x8005 from 0, `crc32` is that of
ISO-HDLC, as in zip files."""


@dataclass(frozen=True)
class Checksum:
    """A checksum of an image.

    Attributes:
        kind: see `WIDTHS`.
        ranges: addresses from … up to and not including …, in this order.
        address: where it is kept.
        order: of its bytes, and of the numbers it adds.
        complement: whether its two's complement is kept, so that sum and checksum add up to 0.
    """

    kind: str
    ranges: Ranges
    address: int
    order: ByteOrder = "big"
    complement: bool = False

    @property
    def size(self) -> int:
        """Bytes it takes."""
        return WIDTHS[self.kind] // 8

    def of(self, data: bytes) -> int:
        """Its value over the bytes of its ranges, put together."""
        width = WIDTHS[self.kind]
        match self.kind:
            case "crc32":
                value = zlib.crc32(data)
            case "crc16-ccitt":
                value = int(crc16.ibm_3740(data))
            case "crc16-arc":
                value = int(crc16.arc(data))
            case "bytes16" | "bytes32":
                value = int(np.frombuffer(data, dtype=np.uint8).astype(np.uint64).sum()) & (2**width - 1)
            case _:
                value = _sum(width, self.order)(data)
        return -value & (2**width - 1) if self.complement else value

    def written(self, data: bytes) -> bytes:
        """Its bytes, over the bytes of its ranges."""
        return self.of(data).to_bytes(self.size, self.order)
