"""A table drawn as lines or as a relief: SVG shapes, computed here."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.proposals.fuel.proposal import FuelProposal
from uchiwa.core.tables.table import Axis
from uchiwa.web.grid.grid import View, bar, diverging, one_hue
from uchiwa.web.svg.relief import HEIGHT, WIDTH, ReliefPicture, relief

_LEFT, _RIGHT, _TOP, _BOTTOM = 52.0, 24.0, 12.0, 30.0
_LOWER = 116.0


class Shape(StrEnum):
    """How a table is laid out."""

    GRID = "grid"
    LINES = "lines"
    RELIEF = "relief"


@dataclass(frozen=True)
class Tick:
    """A mark on an axis."""

    at: float
    text: str


@dataclass(frozen=True)
class PointMark:
    """A breakpoint on a line: where, how far its 95 % interval reaches, which cell it is."""

    x: float
    y: float
    low: float
    high: float
    i: int
    j: int
    classes: str
    words: str


@dataclass(frozen=True)
class LinePicture:
    """Values over the x axis, and below them the change in % with its interval."""

    before: tuple[str, ...]
    after: tuple[str, ...]
    points: tuple[PointMark, ...]
    changes: tuple[PointMark, ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    percent: tuple[Tick, ...]
    zero: float
    split: float
    unit: str
    x_title: str


def _across(axis: Axis) -> FloatArray:
    points = axis.breakpoints
    return _LEFT + (points - points[0]) / (points[-1] - points[0]) * (WIDTH - _LEFT - _RIGHT)


def _ticks(low: float, high: float, top: float, bottom: float, count: int) -> tuple[Tick, ...]:
    span = (high - low) or 1.0
    return tuple(
        Tick(round(bottom - (value - low) / span * (bottom - top), 1), f"{value:g}".replace("-", "−"))
        for value in nice_ticks(low, high, count)
    )


def nice_ticks(low: float, high: float, count: int) -> list[float]:
    """Round numbers between two ends, about `count` of them."""
    span = max(high - low, 1e-9)
    power = 10.0 ** math.floor(math.log10(span / count))
    step = next(one * power for one in (1.0, 2.0, 5.0, 10.0) if one * power * count >= span)
    first = math.ceil(low / step - 1e-9)
    last = math.floor(high / step + 1e-9)
    return [round(number * step, 10) for number in range(first, last + 1)]


def spread_out(places: FloatArray, texts: list[str], least: float) -> tuple[Tick, ...]:
    """Labels that do not touch: each at least `least` from the one before."""
    shown: list[Tick] = []
    for place, text in zip(places.tolist(), texts, strict=True):
        if not shown or place - shown[-1].at >= least:
            shown.append(Tick(round(place, 1), text))
    return tuple(shown)


def line_picture(proposal: FuelProposal, row: int) -> LinePicture:
    """One line per row of a table, the chosen row marked with its evidence; a curve has one."""
    table, correction, found = proposal.table, proposal.correction, proposal.estimate
    x = _across(table.x)
    split = HEIGHT - _LOWER
    top, bottom = _TOP, split - 18.0
    every = np.concatenate([table.grid, correction.after])
    low, high = float(every.min()), float(every.max())
    low, high = (min(low, 0.0) if low < 0.25 * high else low), high
    span = (high - low) or 1.0

    def height(value: float) -> float:
        return round(bottom - (value - low) / span * (bottom - top), 1)

    def line(values: FloatArray) -> str:
        return " ".join(f"{a:.1f},{height(float(b))}" for a, b in zip(x, values, strict=True))

    with np.errstate(invalid="ignore", divide="ignore"):
        change = np.where(table.grid != 0, (correction.after / table.grid - 1) * 100, 0.0)[row]
    sure = np.where(np.isfinite(found.standard_error[row]), found.standard_error[row] * 196.0, 0.0)
    reach = max(2.0, float(np.max(np.abs(change) + np.minimum(sure, 3.0))))
    lower_top, lower_bottom = split + 4.0, HEIGHT - _BOTTOM

    def lower(value: float) -> float:
        held = min(max(value, -reach), reach)
        return round((lower_top + lower_bottom) / 2 - held / reach * (lower_bottom - lower_top) / 2, 1)

    points: list[PointMark] = []
    changes: list[PointMark] = []
    for i in range(table.x.size):
        state, dwell = str(correction.state[row, i]), float(proposal.bins.dwell[row, i])
        value, percent, interval = float(correction.after[row, i]), float(change[i]), float(sure[i])
        words = f"{table.x.breakpoints[i]:g} {table.x.unit}: {value:.{table.decimals}f} {table.unit}, {percent:+.1f} %"
        classes = f"state-{state} ev-{bar(dwell)}" + ("" if dwell > 0 else " never")
        at = round(float(x[i]), 1)
        off = value * interval / 100
        points.append(PointMark(at, height(value), height(value - off), height(value + off), i, row, classes, words))
        mark = PointMark(
            at, lower(percent), lower(percent - interval), lower(percent + interval), i, row, classes, words
        )
        changes.append(mark)
    heads = [f"{point:g}" for point in table.x.breakpoints]
    return LinePicture(
        tuple(line(values) for values in table.grid),
        tuple(line(values) for values in correction.after),
        tuple(points),
        tuple(changes),
        spread_out(x, heads, 34.0),
        _ticks(low, high, top, bottom, 6),
        _ticks(-reach, reach, lower_top, lower_bottom, 4),
        lower(0.0),
        split,
        table.unit,
        f"{table.x.title}, {table.x.unit}",
    )


def relief_picture(proposal: FuelProposal, view: View, turn: int) -> ReliefPicture:
    """The surface of a view of a proposal for a table with two axes, turned by 24ths of a full turn.

    Error and difference rise over their zero, values from their lowest.
    """
    table, correction = proposal.table, proposal.correction
    with np.errstate(invalid="ignore", divide="ignore"):
        change = np.where(table.grid != 0, (correction.after / table.grid - 1) * 100, 0.0)
    error = (proposal.estimate.factor - 1) * 100
    dwell = proposal.bins.dwell
    values = {
        View.ERROR: np.where(proposal.reached, np.nan_to_num(error), 0.0),
        View.PROPOSED: correction.after,
        View.DIFFERENCE: change,
        View.EVIDENCE: np.sqrt(np.minimum(dwell, 20.0) / 20.0),
    }[view]
    low, high = float(values.min()), float(values.max())
    if view in (View.ERROR, View.DIFFERENCE):
        reach = max(abs(low), abs(high), 3.0)
        return relief(table, values, (-reach, reach), lambda one: diverging(one) or "flat", dwell > 0, turn)
    span = (high - low) or 1.0
    return relief(table, values, (low, high), lambda one: one_hue((one - low) / span), dwell > 0, turn)
