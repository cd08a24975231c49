"""Loops over samples that numpy cannot do in one pass, compiled by numba.

All of them release the interpreter's lock, so that `in_parts` can run them beside each other on threads of our own.
"""

from __future__ import annotations

import math
import os
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple, TypeVar

import numpy as np
from numba import njit

from uchiwa.core.logs.log import FloatArray, IntArray

Result = TypeVar("Result")

LEAST_WEIGHT = 1e-9
_WORTH_A_THREAD = 200_000
_MOST_SLOTS = 1 << 12

# Columns of what `gathered` adds up for each cell.
WEIGHT, WEIGHT_SQUARED, VALUE, VALUE_SQUARED, DWELL, VISITS, LOWEST, HIGHEST = range(8)
GATHERED = 8


class Ruler(NamedTuple):
    """Equal slots along an axis, so that a place is found with hardly a step of search, however uneven the axis.

    Attributes:
        base: number of borders in the slots below each slot.
        border: the rising borders, then infinity.
        low: where the first slot begins.
        per: slots per unit.
    """

    base: IntArray
    border: FloatArray
    low: float
    per: float


def ruler(borders: FloatArray) -> Ruler:
    """A ruler for rising borders; a value at a border lies above it."""
    ended = np.append(borders.astype(np.float64), np.inf)
    span = float(borders[-1] - borders[0]) if borders.size else 0.0
    if span == 0.0:
        return Ruler(np.zeros(1, dtype=np.int64), ended, 0.0, 0.0)
    slots = int(min(max(span / float(np.diff(borders).min()) + 2, 64), _MOST_SLOTS))
    low, per = float(borders[0]), slots / span
    place = np.minimum(((borders - low) * per).astype(np.int64), slots)
    return Ruler(np.searchsorted(place, np.arange(slots + 1)), ended, low, per)


def read_only(array: FloatArray) -> FloatArray:
    """A view that cannot be written to, so that one compiled form serves arrays of the store's and of a caller's own."""
    view = np.ascontiguousarray(array).view()
    view.setflags(write=False)
    return view


def in_parts(size: int, work: Callable[[int, int], Result]) -> list[Result]:
    """What `work(first, last)` gives for the whole of `size` samples, in parts on threads where that pays."""
    parts = min(os.cpu_count() or 1, max(1, size // _WORTH_A_THREAD))
    if parts == 1:
        return [work(0, size)]
    borders = np.linspace(0, size, parts + 1).astype(np.int64).tolist()
    with ThreadPoolExecutor(parts) as pool:
        return list(pool.map(work, borders[:-1], borders[1:]))


@njit(cache=True, nogil=True, inline="always")
def above(base, border, low, per, value):  # type: ignore[no-untyped-def]  # pragma: no cover
    """How many borders are at or below a value."""
    k = base[int(min(max((value - low) * per, 0.0), base.size - 1.0))]
    while k < border.size - 1 and value >= border[k]:
        k += 1
    return k


@njit(cache=True, nogil=True, inline="always")
def share_of(points, k, value):  # type: ignore[no-untyped-def]  # pragma: no cover
    """How far a value lies from point k to the next, 0 … 1."""
    return min(max((value - points[k]) / (points[k + 1] - points[k]), 0.0), 1.0)


@njit(cache=True, nogil=True)
def counted(bx, fx, lx, ux, by, fy, ly, uy, nx, cells, x, y, value, shift, first, last):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Number, sum and sum of squares of `value − shift` in the cell between borders; shape (cells, 3)."""
    out = np.zeros((cells, 3))
    for n in range(first, last):
        cell = above(by, fy, ly, uy, y[n]) * nx + above(bx, fx, lx, ux, x[n])
        d = value[n] - shift
        out[cell, 0] += 1.0
        out[cell, 1] += d
        out[cell, 2] += d * d
    return out


@njit(cache=True, nogil=True, inline="always")
def _nothing_gathered(cells):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Rows for cells without a sample; a loop, since numba takes seconds to compile what sets a column."""
    out = np.zeros((cells, GATHERED))
    for at in range(cells):
        out[at, LOWEST], out[at, HIGHEST] = np.inf, -np.inf
    return out


@njit(cache=True, nogil=True)
def gathered_nearest(bx, fx, lx, ux, by, fy, ly, uy, nx, cells, x, y, value, duration, breaks, shift, first, last):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Everything a bin is asked for, samples counting in the nearest cell; shape (cells, GATHERED)."""
    out = _nothing_gathered(cells)
    before = -1
    if first > 0:
        before = above(by, fy, ly, uy, y[first - 1]) * nx + above(bx, fx, lx, ux, x[first - 1])
    for n in range(first, last):
        cell = above(by, fy, ly, uy, y[n]) * nx + above(bx, fx, lx, ux, x[n])
        v = value[n]
        d = v - shift
        row = out[cell]
        row[WEIGHT] += 1.0
        row[VALUE] += d
        row[VALUE_SQUARED] += d * d
        row[DWELL] += duration[n]
        row[LOWEST] = min(row[LOWEST], v)
        row[HIGHEST] = max(row[HIGHEST], v)
        if cell != before or n == 0 or breaks[n] != breaks[n - 1]:
            row[VISITS] += 1.0
        before = cell
    for at in range(cells):
        out[at, WEIGHT_SQUARED] = out[at, WEIGHT]
    return out


@njit(cache=True, nogil=True, inline="always")
def _weight_in(k, share, node):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Weight that a place between breakpoints k and k + 1 gives to breakpoint `node`."""
    if node == k:
        return 1.0 - share
    return share if node == k + 1 else 0.0


@njit(cache=True, nogil=True)
def gathered_weighted(px, bx, fx, lx, ux, py, by, fy, ly, uy, cells, x, y, value, duration, breaks, shift, first, last):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Everything a bin is asked for, samples counting in the two or four breakpoints around; shape (cells, GATHERED)."""
    nx = px.size
    out = _nothing_gathered(cells)
    wi, wj, sx, sy = -2, -2, 0.0, 0.0
    if first > 0:
        wi, wj = above(bx, fx, lx, ux, x[first - 1]), above(by, fy, ly, uy, y[first - 1])
        sx, sy = share_of(px, wi, x[first - 1]), share_of(py, wj, y[first - 1])
    for n in range(first, last):
        i, j = above(bx, fx, lx, ux, x[n]), above(by, fy, ly, uy, y[n])
        rx, ry = share_of(px, i, x[n]), share_of(py, j, y[n])
        v = value[n]
        d = v - shift
        follows = n > 0 and breaks[n] == breaks[n - 1]
        for up in range(2):
            wy = ry if up else 1.0 - ry
            if wy <= LEAST_WEIGHT:
                continue
            for right in range(2):
                w = wy * (rx if right else 1.0 - rx)
                if w <= LEAST_WEIGHT:
                    continue
                row = out[(j + up) * nx + i + right]
                row[WEIGHT] += w
                row[WEIGHT_SQUARED] += w * w
                row[VALUE] += w * d
                row[VALUE_SQUARED] += w * d * d
                row[DWELL] += w * duration[n]
                row[LOWEST] = min(row[LOWEST], v)
                row[HIGHEST] = max(row[HIGHEST], v)
                if not follows or _weight_in(wi, sx, i + right) * _weight_in(wj, sy, j + up) <= LEAST_WEIGHT:
                    row[VISITS] += 1.0
        wi, wj, sx, sy = i, j, rx, ry
    return out


@njit(cache=True, nogil=True)
def followers(bx, fx, lx, ux, by, fy, ly, uy, nx, mean, x, y, value, breaks, first, last):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Sums over neighbours in time within a cell, of their deviations from its mean: d·d′, d², d′²."""
    product = earlier = later = 0.0
    before, was = -1, 0.0
    for n in range(max(first - 1, 0), last):
        cell = above(by, fy, ly, uy, y[n]) * nx + above(bx, fx, lx, ux, x[n])
        d = value[n] - mean[cell]
        if n >= first and n > 0 and cell == before and breaks[n] == breaks[n - 1]:
            product += was * d
            earlier += was * was
            later += d * d
        before, was = cell, d
    return np.array([product, earlier, later])


@njit(cache=True, nogil=True, inline="always")
def _integral_at(t, p, time, read, slope, integral):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Integral of a reading up to t, from its value and slope at `p` before t."""
    step = t - time[p]
    return integral[p] + step * (read[p] + 0.5 * slope[p] * step)


@njit(cache=True, nogil=True, inline="always")
def _add_pair(out, i, j, v, f):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Number, sums, squares and product of a pair of values, added to the six of a stretch and cell."""
    out[i, j, 0] += 1.0
    out[i, j, 1] += v
    out[i, j, 2] += v * v
    out[i, j, 3] += f
    out[i, j, 4] += f * f
    out[i, j, 5] += v * f


@njit(cache=True, nogil=True)
def delayed_sums(time, flow, rest, ahead, cell, stretch, read_time, read, slope, integral, width, longest, d0, k, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Add samples to n, Σv, Σv², Σf, Σf², Σvf of their stretch and cell; `out` has shape (stretches, cells, 6).

    v is the logarithm of the reading that belongs to the combustion at `time`, a mean over `width` seconds, times `rest`;
    f is `ahead`. The reading is joined by straight lines of a `slope` each; `integral` is what lies before each.
    """
    p, half, latest = 0, width / 2.0, -np.inf
    count = read_time.size
    per = (count - 1) / max(read_time[count - 1] - read_time[0], 1e-9)
    for n in range(time.size):
        airflow = flow[n] if flow[n] > 0.5 else (0.5 if flow[n] <= 0.5 else np.inf)
        latest = max(latest, time[n] + d0 + k / airflow)
        if latest - half < read_time[0] or latest + half > read_time[count - 1]:
            continue
        p = min(max(p + int((latest - read_time[p]) * per), 0), count - 2)
        while p > 0 and read_time[p] > latest:
            p -= 1
        while p < count - 2 and read_time[p + 1] <= latest:
            p += 1
        if read_time[p + 1] - read_time[p] > longest:
            continue
        before, after = p, p
        while before > 0 and read_time[before] > latest - half:
            before -= 1
        while after < count - 2 and read_time[after + 1] <= latest + half:
            after += 1
        high = _integral_at(latest + half, after, read_time, read, slope, integral)
        low = _integral_at(latest - half, before, read_time, read, slope, integral)
        mean = (high - low) / width * rest[n]
        if not (mean > 0.0 and mean < 1e6):
            continue
        _add_pair(out, stretch[n], cell[n], math.log(mean), ahead[n])


@njit(cache=True, nogil=True)
def stretch_sums(value, signal, cell, stretch, out):  # type: ignore[no-untyped-def]  # pragma: no cover
    """The same of values that need no delay."""
    for n in range(value.size):
        _add_pair(out, stretch[n], cell[n], value[n], signal[n])


@njit(cache=True, nogil=True)
def left_out_sums(data, total, a, b, c):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Add Σ(v − v̄)², Σ(v − v̄)(f − f̄), Σ(f − f̄)² of each stretch, means being those of the cell in all other stretches."""
    for s in range(data.shape[0]):
        for j in range(data.shape[1]):
            n = data[s, j, 0]
            others = total[j, 0] - n
            if n <= 0.0 or others <= 0.0:
                continue
            v, f = data[s, j, 1], data[s, j, 3]
            mean_v, mean_f = (total[j, 1] - v) / others, (total[j, 3] - f) / others
            a[s] += data[s, j, 2] - 2.0 * mean_v * v + n * mean_v * mean_v
            b[s] += data[s, j, 5] - mean_v * f - mean_f * v + n * mean_v * mean_f
            c[s] += data[s, j, 4] - 2.0 * mean_f * f + n * mean_f * mean_f


@njit(cache=True, nogil=True)
def widest_means(time, total, count, halves, reach, begin, end):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Means of readings over the widest of some windows whose means all agree, each within `reach`/√n; from begin to end.

    `total` and `count` are the sums of the known readings before each, and their number; NaN where no window holds two.
    """
    size, windows = time.size, halves.size
    first, last = np.zeros(windows, dtype=np.int64), np.zeros(windows, dtype=np.int64)
    out = np.full(end - begin, np.nan)
    for n in range(begin, end):
        low, high, agrees = -np.inf, np.inf, True
        for k in range(windows):
            while time[first[k]] < time[n] - halves[k]:
                first[k] += 1
            while last[k] < size and time[last[k]] <= time[n] + halves[k]:
                last[k] += 1
            together = count[last[k]] - count[first[k]]
            whole = time[n] - time[0] >= halves[k] and time[size - 1] - time[n] >= halves[k]
            if not agrees or not whole or together < 2.0:
                continue
            mean = (total[last[k]] - total[first[k]]) / together
            half = reach / math.sqrt(together)
            low, high = max(low, mean - half), min(high, mean + half)
            if low > high:
                agrees = False
            else:
                out[n - begin] = mean
    return out


@njit(cache=True, nogil=True)
def lagged(time, values, lag):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Values behind a first-order lag of `lag` seconds; a gap is bridged by the value before it."""
    out = np.empty(values.size)
    at = np.nan
    for n in range(values.size):
        v = values[n]
        if np.isnan(at):
            at = v
        elif not np.isnan(v):
            at += (1.0 - math.exp(-(time[n] - time[n - 1]) / lag)) * (v - at)
        out[n] = at
    return out
