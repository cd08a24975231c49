"""What is drawn of a trace, and its figures, for a stretch of time."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.viewing.pyramid import Level, Source

MOST_POINTS = 2500
_GAP_STEPS = 3.0
_LEAST_GAP_S = 0.5
_ENOUGH = 0.56
_SPARE = 8


@dataclass(frozen=True, eq=False)
class Line:
    """Points of a trace, in the order in which they are joined; a NaN value breaks the line.

    Attributes:
        time: seconds; shape (n,).
        values: shape (n,).
        whole: whether every sample of the stretch is among them.
    """

    time: FloatArray
    values: FloatArray
    whole: bool


def index_at(time: Source, moment: float, side: str = "left") -> int:
    """Index of the first sample at or after a moment (*left*), or of the first after it (*right*).

    Args:
        time: seconds, rising.
        moment: seconds.
    """
    if time.size == 0:
        return 0
    if not time.blocks:
        return int(np.searchsorted(time.samples(0, time.size), moment, side="right" if side == "right" else "left"))
    if moment < time.extent[0]:
        return 0
    if moment > time.extent[1]:
        return time.size
    block = time.blocks[0]
    firsts = time.level(block).low
    number = max(int(np.searchsorted(firsts, moment, side="right")) - 1, 0)
    if side == "left" and number > 0 and firsts[number] == moment:
        return number * block
    last = min((number + 1) * block, time.size)
    inside = time.samples(number * block, last)
    return number * block + int(np.searchsorted(inside, moment, side="right" if side == "right" else "left"))


def drawn(time: Source, values: Source, start: float, end: float, points: int = MOST_POINTS) -> Line:
    """At most `points` points of a trace from `start` to `end`: of each stretch its lowest and its highest reading.

    Up to a few thousand samples each is a point. Beyond, the line goes through the lows and highs of equal parts, so
    that a spike of one sample shows at any zoom; where the pyramid is coarse enough, samples are not read at all, and
    the block in which either end lies is drawn whole: at most two parts of the line, or 64 samples.

    Args:
        time: seconds, rising.
        values: as many samples; NaN where nothing was read.
        start, end: seconds.
        points: 16 or more.
    """
    first, last = roughly(time, start, end)
    if last <= first:
        return Line(np.empty(0), np.empty(0), whole=True)
    size = last - first
    if size <= points:
        return _all(time.samples(first, last), values.samples(first, last), points)
    block = block_for(size, values.blocks, points)
    if block is None:
        return _from_samples(time.samples(first, last), values.samples(first, last), points)
    return _from_level(time.level(block), values.level(block), slice(first // block, -(-last // block)), points)


def block_for(size: int, blocks: Sequence[int], points: int) -> int | None:
    """The coarsest level that is fine enough to draw so many samples from; None if the samples themselves are needed."""
    enough = (points // 2 - _SPARE) * _ENOUGH
    return None if size <= points else next((block for block in reversed(blocks) if size / block >= enough), None)


def roughly(time: Source, start: float, end: float) -> tuple[int, int]:
    """The samples from start to end, to a block: drawing needs no more."""
    if time.size == 0 or not time.blocks:
        return index_at(time, start), index_at(time, end, "right")
    if start <= time.extent[0] and end >= time.extent[1]:
        return 0, time.size
    if end < time.extent[0] or start > time.extent[1]:
        return 0, 0
    level = time.level(time.blocks[0])
    first = int(np.searchsorted(level.high, start, side="left")) * level.block
    last = min(int(np.searchsorted(level.low, end, side="right")) * level.block, time.size)
    if last - first <= 4 * level.block:
        return index_at(time, start), index_at(time, end, "right")
    return first, last


def _edges(size: int, buckets: int) -> IntArray:
    """Beginnings of equal parts, none of them empty."""
    parts = min(size, buckets)
    return np.arange(parts) * size // parts


def _from_samples(time: FloatArray, values: FloatArray, points: int) -> Line:
    edges = _edges(time.size, points // 2 - _SPARE)
    ends = np.append(edges[1:], time.size) - 1
    low, high = np.fmin.reduceat(values, edges), np.fmax.reduceat(values, edges)
    return _zigzag(time[edges], time[ends], low, high, points)


def _from_level(time: Level, values: Level, part: slice, points: int) -> Line:
    size = time.low[part].size
    edges = _edges(size, points // 2 - _SPARE)
    ends = np.append(edges[1:], size) - 1
    low, high = np.fmin.reduceat(values.low[part], edges), np.fmax.reduceat(values.high[part], edges)
    return _zigzag(time.low[part][edges], time.high[part][ends], low, high, points)


def _zigzag(starts: FloatArray, ends: FloatArray, low: FloatArray, high: FloatArray, points: int) -> Line:
    """Each part as two points, the one nearer to where the line comes from first."""
    middle = low + high
    rises = np.append(True, ~(middle[1:] < middle[:-1]))
    time = np.empty(2 * low.size)
    values = np.empty(2 * low.size)
    time[0::2], time[1::2] = starts, ends
    values[0::2] = np.where(rises, low, high)
    values[1::2] = np.where(rises, high, low)
    usual = float(ends[-1] - starts[0]) / low.size
    gaps = 2 * np.flatnonzero(starts[1:] - ends[:-1] > max(_LEAST_GAP_S, usual)) + 1
    return _broken(time, values, gaps, points, whole=False)


def _all(time: FloatArray, values: FloatArray, points: int) -> Line:
    """Every sample; a step of over three usual ones is a gap."""
    steps = np.diff(time)
    usual = float(np.median(steps)) if steps.size else 0.0
    return _broken(time, values, np.flatnonzero(steps > max(_LEAST_GAP_S, _GAP_STEPS * usual)), points, whole=True)


def _broken(time: FloatArray, values: FloatArray, gaps: IntArray, points: int, *, whole: bool) -> Line:
    """The line with a break after some of its points, as far as the number of points allows."""
    gaps = gaps[: max(0, points - time.size)]
    if not gaps.size:
        return Line(time, values, whole)
    at = (time[gaps] + time[gaps + 1]) / 2
    return Line(np.insert(time, gaps + 1, at), np.insert(values, gaps + 1, np.nan), whole)


@dataclass(frozen=True)
class Figures:
    """Lowest, highest and mean reading of a stretch, and how many there were; None where there were none."""

    low: float | None
    high: float | None
    mean: float | None
    count: int


class _Gathered:
    """Figures gathered stretch by stretch."""

    def __init__(self, values: Source) -> None:
        self.values = values
        self.low, self.high, self.total, self.count = math.inf, -math.inf, 0.0, 0

    def add(self, lows: FloatArray, highs: FloatArray, total: float, count: int) -> None:
        """A stretch of which lowest and highest readings, sum and number are known."""
        if count:
            self.low = min(self.low, float(np.fmin.reduce(lows)))
            self.high = max(self.high, float(np.fmax.reduce(highs)))
            self.total += total
            self.count += count

    def samples(self, first: int, last: int) -> None:
        """Samples first … last − 1, read one by one."""
        part = self.values.samples(first, last)
        part = part[np.isfinite(part)]
        self.add(part, part, float(part.sum()), int(part.size))

    def blocks(self, block: int, begin: int, stop: int) -> None:
        """Blocks begin … stop − 1 of a level."""
        level, sums = self.values.level(block), self.values.sums(block)
        total, known = float(sums.total[begin:stop].sum()), int(sums.known[begin:stop].sum())
        self.add(level.low[begin:stop], level.high[begin:stop], total, known)

    @property
    def figures(self) -> Figures:
        """What came together."""
        if not self.count:
            return Figures(None, None, None, 0)
        return Figures(self.low, self.high, self.total / self.count, self.count)


def figures(values: Source, first: int, last: int) -> Figures:
    """The figures of samples first … last − 1, exactly; only the parts of blocks at either end are read as samples."""
    first, last = max(first, 0), min(last, values.size)
    found = _Gathered(values)
    for block in reversed(values.blocks):
        begin, stop = -(-first // block), last // block
        if last == values.size:
            stop = values.level(block).size
        if stop <= begin or (begin * block - first) > 8 * values.blocks[0] * 4:
            continue
        found.blocks(block, begin, stop)
        if begin * block > first:
            found.samples(first, begin * block)
        end = min(stop * block, values.size)
        if last > end:
            found.samples(end, last)
        return found.figures
    if last > first:
        found.samples(first, last)
    return found.figures


def nearest_index(time: Source, moment: float) -> int | None:
    """Index of the sample nearest to a moment, the later of two that are equally near; None without any."""
    if time.size == 0:
        return None
    after = min(index_at(time, moment), time.size - 1)
    before = max(after - 1, 0)
    pair = time.samples(before, after + 1)
    return after if abs(pair[-1] - moment) <= abs(moment - pair[0]) else before


def value_at(time: Source, values: Source, moment: float) -> tuple[float, float] | None:
    """Time and value of the sample nearest to a moment; None without any. The value is NaN if nothing was read there."""
    chosen = nearest_index(time, moment)
    if chosen is None:
        return None
    return float(time.samples(chosen, chosen + 1)[0]), float(values.samples(chosen, chosen + 1)[0])
