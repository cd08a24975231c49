"""A pyramid of lows and highs over a signal, so that any stretch of it can be drawn from a few thousand numbers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np

from uchiwa.core.logs.log import FloatArray, IntArray

BLOCK = 64
"""Samples to a block of the lowest level."""
STEP = 4
"""Blocks of a level to a block of the next."""
_FEWEST = 256


@dataclass(frozen=True, eq=False)
class Level:
    """The extremes of one level of a pyramid.

    Attributes:
        block: samples to a block; the last block may have fewer.
        low, high: extremes of each block's readings; NaN for a block without any.
    """

    block: int
    low: FloatArray
    high: FloatArray

    @property
    def size(self) -> int:
        """Number of blocks."""
        return int(self.low.size)


@dataclass(frozen=True, eq=False)
class BlockSums:
    """The sum of each block's readings, and how many they are."""

    total: FloatArray
    known: IntArray


def pyramid_of(values: FloatArray) -> tuple[tuple[Level, BlockSums], ...]:
    """The levels of a signal, finest first: blocks of 64 samples, 256, 1024 and so on while there are over 256 of them.

    Args:
        values: shape (n,); NaN where nothing was read.
    """
    if values.size <= BLOCK:
        return ()
    finite = np.isfinite(values)
    whole = bool(finite.all())
    padded = -values.size % BLOCK
    low = _rows(values if whole else np.where(finite, values, np.inf), padded, np.inf).min(axis=1)
    high = _rows(values if whole else np.where(finite, values, -np.inf), padded, -np.inf).max(axis=1)
    total = _rows(values if whole else np.where(finite, values, 0.0), padded, 0.0).sum(axis=1)
    known = _rows(finite.astype(np.float64), padded, 0.0).sum(axis=1)
    levels = [_level(BLOCK, low, high, total, known)]
    while levels[-1][0].size > _FEWEST:
        padded = -low.size % STEP
        low = _rows(low, padded, np.inf, STEP).min(axis=1)
        high = _rows(high, padded, -np.inf, STEP).max(axis=1)
        total = _rows(total, padded, 0.0, STEP).sum(axis=1)
        known = _rows(known, padded, 0.0, STEP).sum(axis=1)
        levels.append(_level(levels[-1][0].block * STEP, low, high, total, known))
    return tuple(levels)


def _rows(values: FloatArray, padded: int, with_: float, width: int = BLOCK) -> FloatArray:
    full = np.concatenate((values, np.full(padded, with_))) if padded else values
    return full.reshape(-1, width)


def _level(
    block: int, low: FloatArray, high: FloatArray, total: FloatArray, known: FloatArray
) -> tuple[Level, BlockSums]:
    empty = known == 0
    level = Level(block, np.where(empty, np.nan, low), np.where(empty, np.nan, high))
    return level, BlockSums(total, known.astype(np.int64))


class Source(Protocol):
    """A signal that can be read in parts."""

    @property
    def size(self) -> int:
        """Number of samples."""
        ...

    @property
    def blocks(self) -> Sequence[int]:
        """Samples to a block of each level there is, finest first."""
        ...

    @property
    def extent(self) -> tuple[float, float]:
        """Lowest and highest reading; NaN without any."""
        ...

    def level(self, block: int) -> Level:
        """The level with blocks of so many samples."""
        ...

    def sums(self, block: int) -> BlockSums:
        """The sums of that level."""
        ...

    def samples(self, first: int, last: int) -> FloatArray:
        """Samples first … last − 1."""
        ...


class InMemory:
    """A signal held whole; its pyramid is built when it is first asked for."""

    def __init__(self, values: FloatArray) -> None:
        self.values = values
        self._built: dict[int, tuple[Level, BlockSums]] | None = None
        self._extent: tuple[float, float] | None = None

    @property
    def size(self) -> int:
        """Number of samples."""
        return int(self.values.size)

    def _pyramid(self) -> dict[int, tuple[Level, BlockSums]]:
        if self._built is None:
            self._built = {pair[0].block: pair for pair in pyramid_of(self.values)}
        return self._built

    @property
    def blocks(self) -> Sequence[int]:
        """Samples to a block of each level."""
        return list(self._pyramid())

    @property
    def extent(self) -> tuple[float, float]:
        """Lowest and highest reading; NaN without any."""
        if self._extent is None:
            known = self.values[np.isfinite(self.values)]
            self._extent = (float(known.min()), float(known.max())) if known.size else (float("nan"), float("nan"))
        return self._extent

    def level(self, block: int) -> Level:
        """The level with blocks of so many samples."""
        return self._pyramid()[block][0]

    def sums(self, block: int) -> BlockSums:
        """The sums of that level."""
        return self._pyramid()[block][1]

    def samples(self, first: int, last: int) -> FloatArray:
        """Samples first … last − 1."""
        return self.values[first:last]
