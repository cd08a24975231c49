"""Gathered figures as a grid: a fill by what the figures mean, the evidence as a bar."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.evidence.gathering import GatheredCells
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table
from uchiwa.services.bins import BinsWork
from uchiwa.web.grid.grid import FILL_STEPS, Cell, Grid, bar, build, one_hue


class BinsView(StrEnum):
    """Which of two gatherings the cells show."""

    FIRST = "first"
    SECOND = "second"
    DIFFERENCE = "difference"


@dataclass(frozen=True)
class Shading:
    """How figures are filled.

    Attributes:
        low, high: where the fill is fullest.
        signed: whether figures lie on both sides of zero, which then has no fill.
        decimals: digits after the point.
    """

    low: float
    high: float
    signed: bool
    decimals: int

    def fill(self, value: float) -> str:
        """The class of a figure's fill."""
        if not math.isfinite(value):
            return ""
        if self.signed:
            full = max(abs(self.low), abs(self.high)) or 1.0
            level = min(FILL_STEPS, math.ceil(abs(value) / full * FILL_STEPS - 0.25))
            return f"{'add' if value > 0 else 'cut'}-{level}" if level > 0 else ""
        return one_hue((value - self.low) / ((self.high - self.low) or 1.0))


def shading(figures: FloatArray, low: float | None, high: float | None, *, signed: bool | None = None) -> Shading:
    """How to fill figures: within the limits given, else from the lowest to the highest of them."""
    known = figures[np.isfinite(figures)]
    least = float(known.min()) if known.size else 0.0
    most = float(known.max()) if known.size else 1.0
    bottom, top = least if low is None else low, most if high is None else high
    both = (bottom < 0 < top) if signed is None else signed
    largest = max(abs(bottom), abs(top), 1e-9)
    return Shading(bottom, top, both, min(max(2 - math.floor(math.log10(largest)), 0), 4))


def shown_figures(found: BinsWork, view: BinsView) -> tuple[FloatArray, GatheredCells]:
    """The figures of a view, and whose evidence stands for them."""
    if view is BinsView.SECOND and found.second is not None:
        return found.second.figure, found.second
    if view is BinsView.DIFFERENCE and found.second is not None:
        return found.difference, found.first
    return found.first.figure, found.first


def bins_grid(found: BinsWork, view: BinsView) -> tuple[Grid, Shading]:
    """The grid of a view, and how it is filled."""
    figures, of = shown_figures(found, view)
    asked = found.asked
    limits = (None, None) if view is BinsView.DIFFERENCE else (asked.low, asked.high)
    look = shading(figures, *limits, signed=True if view is BinsView.DIFFERENCE else None)
    axes = of.axes
    rows = []
    for j in range(axes.shape[0]):
        row = []
        for i in range(axes.shape[1]):
            value, seconds = figures.item(j, i), of.bins.dwell.item(j, i)
            text = figure_text(value, look.decimals)
            marks = [look.fill(value), f"ev-{bar(seconds)}", "" if of.bins.samples.item(j, i) > 0 else "never"]
            words = f"{_place(axes, i, j)}: {text or 'nothing'}"
            row.append(Cell(i, j, text, " ".join(filter(None, marks)), words))
        rows.append(row)
    return build(axes, rows), look


def figure_text(value: float, decimals: int) -> str:
    """A figure as text, with a true minus and no negative zero; nothing where there is none."""
    return f"{round(value, decimals) + 0.0:.{decimals}f}".replace("-", "−") if math.isfinite(value) else ""


def _place(axes: Table, i: int, j: int) -> str:
    place = f"{axes.x.breakpoints[i]:g} {axes.x.unit}"
    return place if axes.y is None else f"{place}, {axes.y.breakpoints[j]:g} {axes.y.unit}"
