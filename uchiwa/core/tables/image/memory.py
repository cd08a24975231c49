"""Bytes of a controller's memory by address."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput

MOST_SEGMENTS = 4096


@dataclass(frozen=True)
class Segment:
    """Bytes that lie together, from an address on."""

    address: int
    data: bytes

    @property
    def end(self) -> int:
        """The address after the last byte."""
        return self.address + len(self.data)


@dataclass(frozen=True)
class Memory:
    """Segments in rising order, none touching or overlapping another."""

    segments: tuple[Segment, ...]

    @classmethod
    def of(cls, segments: Iterable[Segment]) -> Memory:
        """From segments in any order; those that touch become one.

        Raises:
            BadInput: two overlap, there is none, or there are too many that do not touch.
        """
        groups: list[list[Segment]] = []
        end = -1
        for segment in sorted((segment for segment in segments if segment.data), key=lambda segment: segment.address):
            if groups and segment.address < end:
                raise BadInput(f"address 0x{segment.address:X} is given twice", advice="take the image from one source")
            if groups and segment.address == end:
                groups[-1].append(segment)
            else:
                groups.append([segment])
            end = segment.end
        if not groups:
            raise BadInput("the image has no bytes", advice="choose another file")
        if len(groups) > MOST_SEGMENTS:
            raise BadInput(
                f"the image lies in {len(groups)} pieces, and at most {MOST_SEGMENTS} are taken",
                advice="export the whole of it, without gaps",
            )
        return cls(tuple(Segment(group[0].address, b"".join(segment.data for segment in group)) for group in groups))

    @property
    def start(self) -> int:
        """The lowest address."""
        return self.segments[0].address

    @property
    def end(self) -> int:
        """The address after the highest byte."""
        return self.segments[-1].end

    @property
    def size(self) -> int:
        """Number of bytes."""
        return sum(len(segment.data) for segment in self.segments)

    def _at(self, address: int) -> int | None:
        """Which segment has an address."""
        at = bisect_right(self.segments, address, key=lambda segment: segment.address) - 1
        return at if at >= 0 and address < self.segments[at].end else None

    def read(self, address: int, length: int, what: str = "this place") -> bytes:
        """Bytes from an address on.

        Raises:
            BadInput: some of them are not in the image.
        """
        at = self._at(address)
        if at is not None and address + length <= self.segments[at].end:
            start = address - self.segments[at].address
            return self.segments[at].data[start : start + length]
        raise BadInput(
            f"the image has no bytes at 0x{address:X} … 0x{address + length - 1:X}",
            where=what,
            advice="check that image and layout belong together",
        )

    def with_bytes(self, changes: Iterable[tuple[int, bytes]]) -> Memory:
        """The memory with bytes replaced at addresses that it has."""
        buffers = [bytearray(segment.data) for segment in self.segments]
        for address, data in changes:
            self.read(address, len(data))
            at = self._at(address)
            if at is not None:
                start = address - self.segments[at].address
                buffers[at][start : start + len(data)] = data
        same = zip(self.segments, buffers, strict=True)
        return Memory(tuple(Segment(segment.address, bytes(buffer)) for segment, buffer in same))

    def changed(self, other: Memory) -> tuple[tuple[int, int], ...]:
        """Ranges (from, up to) in which another memory of the same extent has other bytes."""
        spans: list[tuple[int, int]] = []
        for segment, two in zip(self.segments, other.segments, strict=True):
            different = np.frombuffer(segment.data, dtype=np.uint8) != np.frombuffer(two.data, dtype=np.uint8)
            edges = np.flatnonzero(np.diff(different.astype(np.int8), prepend=0, append=0)).tolist()
            pairs = zip(edges[::2], edges[1::2], strict=True)
            spans += [(segment.address + start, segment.address + stop) for start, stop in pairs]
        return tuple(spans)
