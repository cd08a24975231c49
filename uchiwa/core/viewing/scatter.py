"""Any channel against any other, and how a channel is distributed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.logs.signal import durations, spans
from uchiwa.core.viewing.ticks import nice_step

COLUMNS, ROWS = 180, 120
_BRIDGE_S = 0.3
_SPARE = 0.02
_OUTERMOST = 0.02
_BINS = 48


@dataclass(frozen=True, eq=False)
class Scatter:
    """A cloud of samples, one point for each small field of the picture that any sample fell into.

    Attributes:
        x, y: of one sample in each field.
        colour: mean of the third channel over the field's samples; NaN where it has no reading or there is none.
        count: samples in the field.
        x_range, y_range, colour_range: what the picture and its colours span.
        samples: how many there are in all.
    """

    x: FloatArray
    y: FloatArray
    colour: FloatArray
    count: IntArray
    x_range: tuple[float, float]
    y_range: tuple[float, float]
    colour_range: tuple[float, float]
    samples: int


def _range(values: FloatArray) -> tuple[float, float]:
    if not values.size:
        return 0.0, 1.0
    low, high = float(values.min()), float(values.max())
    if high <= low:
        return low - 0.5, high + 0.5
    spare = (high - low) * _SPARE
    return low - spare, high + spare


DIVERGING = frozenset({"fuel_error", *(f"{kind}_term_trim{bank}" for kind in ("short", "long") for bank in ("", "_2"))})
"""Channels whose zero means that nothing is wrong: their colours run from there both ways."""


def around_zero(ends: tuple[float, float]) -> tuple[float, float]:
    """The smallest range around zero that holds another; ±1 at least."""
    reach = max(abs(ends[0]), abs(ends[1]), 1.0)
    return -reach, reach


def _ends(shades: FloatArray) -> tuple[float, float]:
    """Where the colours begin and end: beyond the outermost hundredths they stay as they are."""
    if not shades.size:
        return 0.0, 1.0
    low, high = np.quantile(shades, (_OUTERMOST, 1 - _OUTERMOST))
    return float(low), float(high)


def scatter(x: FloatArray, y: FloatArray, colour: FloatArray | None, use: BoolArray) -> Scatter:
    """The cloud of two channels where `use` holds and both have readings; no field with a sample is left out.

    Args:
        x, y: shape (n,).
        colour: a third channel; shape (n,).
        use: shape (n,).
    """
    kept = use & np.isfinite(x) & np.isfinite(y)
    xs, ys = x[kept], y[kept]
    x_range, y_range = _range(xs), _range(ys)
    column = np.clip((xs - x_range[0]) / (x_range[1] - x_range[0]) * COLUMNS, 0, COLUMNS - 1).astype(np.int64)
    row = np.clip((ys - y_range[0]) / (y_range[1] - y_range[0]) * ROWS, 0, ROWS - 1).astype(np.int64)
    field = row * COLUMNS + column
    fields, first, inverse, count = np.unique(field, return_index=True, return_inverse=True, return_counts=True)
    shade = np.full(fields.size, np.nan)
    if colour is not None and xs.size:
        third = colour[kept]
        known = np.isfinite(third)
        sums = np.bincount(inverse[known], weights=third[known], minlength=fields.size)
        number = np.bincount(inverse[known], minlength=fields.size)
        with np.errstate(invalid="ignore", divide="ignore"):
            shade = np.where(number > 0, sums / number, np.nan)
    known_shade = shade[np.isfinite(shade)]
    return Scatter(
        xs[first],
        ys[first],
        shade,
        count.astype(np.int64),
        x_range,
        y_range,
        _ends(known_shade),
        int(xs.size),
    )


def brushed(
    time: FloatArray,
    x: FloatArray,
    y: FloatArray,
    use: BoolArray,
    box: tuple[tuple[float, float], tuple[float, float]],
) -> tuple[list[tuple[float, float]], int, float]:
    """When the samples within a rectangle of the cloud were recorded.

    Args:
        box: two ends each of x and of y.

    Returns:
        Stretches (s), the number of samples, and the seconds they stand for.
    """
    across, up = box
    inside = use & (x >= min(across)) & (x <= max(across)) & (y >= min(up)) & (y <= max(up))
    return spans(time, inside, bridge=_BRIDGE_S), int(inside.sum()), float(durations(time)[inside].sum())


@dataclass(frozen=True, eq=False)
class Distribution:
    """How long a channel stayed where.

    Attributes:
        edges: of the bins, in the channel's unit; shape (k + 1,).
        seconds: spent in each; shape (k,).
        total: seconds in all.
        samples: readings in all.
        quantiles: value below which 5, 25, 50, 75, 95 % of the time was spent.
        mean: weighted by time.
    """

    edges: FloatArray
    seconds: FloatArray
    total: float
    samples: int
    quantiles: tuple[float, ...]
    mean: float


QUANTILES = (0.05, 0.25, 0.5, 0.75, 0.95)


def distribution(time: FloatArray, values: FloatArray, use: BoolArray) -> Distribution | None:
    """How a channel is distributed over the time in which `use` holds; None if it has no reading there."""
    kept = use & np.isfinite(values)
    if not kept.any():
        return None
    weight, here = durations(time)[kept], values[kept]
    low, high = float(here.min()), float(here.max())
    step = nice_step((high - low) / _BINS) if high > low else 1.0
    first = np.floor(low / step)
    count = int(np.floor(high / step) - first) + 1
    place = np.clip(np.floor(here / step) - first, 0, count - 1).astype(np.int64)
    seconds = np.bincount(place, weights=weight, minlength=count)
    order = np.argsort(here, kind="stable")
    running = np.cumsum(weight[order])
    total = float(running[-1])
    found = [float(here[order][min(int(np.searchsorted(running, q * total)), here.size - 1)]) for q in QUANTILES]
    mean = float((here * weight).sum() / total) if total > 0 else float(here.mean())
    return Distribution(
        (first + np.arange(count + 1)) * step, seconds.astype(np.float64), total, int(here.size), tuple(found), mean
    )
