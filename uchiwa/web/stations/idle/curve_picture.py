"""A curve over coolant as a picture: before and after with intervals, and the samples or the warming behind it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.evidence.falling_fit import FallingFit
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.core.tables.table import Table
from uchiwa.web.grid.grid import bar
from uchiwa.web.svg.scale import Scale, Tick, broken_path, polyline, spread_out

WIDTH, HEIGHT = 820.0, 288.0
LEFT, RIGHT, TOP, BOTTOM = 52.0, 796.0, 14.0, 34.0
_SPARE, _LEAST_APART = 0.06, 34.0


@dataclass(frozen=True)
class PointMark:
    """A breakpoint on the curve: where, how far the interval of what was measured reaches, which cell it is."""

    x: float
    y: float
    needed: float | None
    low: float
    high: float
    i: int
    j: int
    classes: str
    words: str


@dataclass(frozen=True)
class Dot:
    """A sample: where, and the class of its look."""

    x: float
    y: float
    look: str


@dataclass(frozen=True)
class Course:
    """A warming as a path: its SVG path and the class of its look."""

    path: str
    look: str


@dataclass(frozen=True, eq=False)
class Backdrop:
    """What lies behind a curve: samples as (coolant, value, class), courses as (coolant, value, class), times along them."""

    dots: Sequence[tuple[float, float, str]] = ()
    courses: Sequence[tuple[FloatArray, FloatArray, str]] = ()
    clocks: Sequence[tuple[float, float, str]] = ()


@dataclass(frozen=True)
class CurvePicture:
    """Everything that is drawn."""

    before: tuple[tuple[str, bool], ...]
    after: tuple[tuple[str, bool], ...]
    points: tuple[PointMark, ...]
    dots: tuple[Dot, ...]
    courses: tuple[Course, ...]
    clocks: tuple[tuple[float, float, str], ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    unit: str
    x_title: str
    height: float = HEIGHT
    top: float = TOP
    bottom: float = field(default=HEIGHT - BOTTOM)


@dataclass(frozen=True, eq=False)
class DrawnTable:
    """A table with a proposal for it: values and states of shape (rows, columns), and the fit of each row."""

    table: Table
    after: FloatArray
    state: NDArray[np.object_]
    fits: Sequence[FallingFit]
    reached: Sequence[BoolArray]


def curve_picture(drawn: DrawnTable, row: int, behind: Backdrop) -> CurvePicture:
    """The rows of a table as curves, the chosen one with its points and what lies behind it."""
    table = drawn.table
    points = table.x.breakpoints
    along = Scale(float(points[0]), float(points[-1]), LEFT, RIGHT)
    fit, reached = drawn.fits[row], drawn.reached[row]
    told = np.where(reached, fit.value, np.nan)
    seen = [table.grid.ravel(), drawn.after.ravel(), told]
    seen += [np.array([dot[1] for dot in behind.dots])] if behind.dots else []
    every = np.concatenate([np.asarray(one, dtype=np.float64) for one in seen])
    upright = Scale.around(every, HEIGHT - BOTTOM, TOP, spare=_SPARE)
    x = along.places(points)
    marks = tuple(_mark(drawn, row, i, along, upright) for i in range(points.size))
    return CurvePicture(
        tuple((polyline(x, upright.places(values)), j == row) for j, values in enumerate(table.grid)),
        tuple((polyline(x, upright.places(values)), j == row) for j, values in enumerate(drawn.after)),
        marks,
        tuple(Dot(along.held(a), upright.held(b), look) for a, b, look in behind.dots),
        tuple(_course(along, upright, *course) for course in behind.courses),
        tuple((along.held(a), upright.held(b), text) for a, b, text in behind.clocks),
        spread_out(x, [f"{point:g}" for point in points], _LEAST_APART),
        upright.ticks(6),
        unit_words(table.unit),
        f"{table.x.title}, {unit_words(table.x.unit)}",
    )


def _course(along: Scale, upright: Scale, coolant: FloatArray, value: FloatArray, look: str) -> Course:
    """A course within the picture: what lies beyond its frame breaks it."""
    inside = (value >= upright.low) & (value <= upright.high) & (coolant >= along.low) & (coolant <= along.high)
    shown = np.where(inside, value, np.nan)
    return Course(broken_path(along.places(coolant), upright.places(shown)), look)


def _mark(drawn: DrawnTable, row: int, i: int, along: Scale, upright: Scale) -> PointMark:
    table, fit = drawn.table, drawn.fits[row]
    value, state = float(drawn.after[row, i]), str(drawn.state[row, i])
    seconds = float(fit.dwell[i])
    measured = bool(drawn.reached[row][i])
    needed, wide = float(fit.value[i]), float(fit.half_width[i])
    before = float(table.grid[row, i])
    words = f"{table.x.breakpoints[i]:g} {table.x.unit}: {before:.{table.decimals}f} → {value:.{table.decimals}f} {table.unit}"
    classes = f"state-{state} ev-{bar(seconds)}" + ("" if seconds > 0 else " never")
    return PointMark(
        along.at(float(table.x.breakpoints[i])),
        upright.held(value),
        upright.held(needed) if measured else None,
        upright.held(needed - wide) if measured else 0.0,
        upright.held(needed + wide) if measured else 0.0,
        i,
        row,
        classes,
        words,
    )
