"""A proposal drawn as lines over the x axis, with the change below them: SVG shapes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.proposals.fuel.proposal import FuelProposal
from uchiwa.web.grid.grid import bar
from uchiwa.web.svg.relief import HEIGHT, WIDTH
from uchiwa.web.svg.scale import Scale, Tick, polyline, spread_out

_LEFT, _RIGHT, _TOP, _BOTTOM = 52.0, 24.0, 12.0, 30.0
_LOWER = 116.0


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
    height: float


def line_picture(proposal: FuelProposal, row: int, height: float = HEIGHT) -> LinePicture:
    """One line per row of a table, the chosen row marked with its evidence; a curve has one."""
    table, correction, found = proposal.table, proposal.correction, proposal.estimate
    breakpoints = table.x.breakpoints
    x = Scale(float(breakpoints[0]), float(breakpoints[-1]), _LEFT, WIDTH - _RIGHT).places(breakpoints)
    split = height - _LOWER
    top, bottom = _TOP, split - 18.0
    every = np.concatenate([table.grid, correction.after])
    low, high = float(every.min()), float(every.max())
    low, high = (min(low, 0.0) if low < 0.25 * high else low), high
    upper = Scale(low, high, bottom, top)

    def line(values: FloatArray) -> str:
        return polyline(x, upper.places(values))

    with np.errstate(invalid="ignore", divide="ignore"):
        change = np.where(table.grid != 0, (correction.after / table.grid - 1) * 100, 0.0)[row]
    sure = np.where(np.isfinite(found.standard_error[row]), found.standard_error[row] * 196.0, 0.0)
    reach = max(2.0, float(np.max(np.abs(change) + np.minimum(sure, 3.0))))
    lower = Scale(-reach, reach, height - _BOTTOM, split + 4.0)

    points: list[PointMark] = []
    changes: list[PointMark] = []
    for i in range(table.x.size):
        state, dwell = str(correction.state[row, i]), float(proposal.bins.dwell[row, i])
        value, percent, interval = float(correction.after[row, i]), float(change[i]), float(sure[i])
        words = f"{table.x.breakpoints[i]:g} {table.x.unit}: {value:.{table.decimals}f} {table.unit}, {percent:+.1f} %"
        classes = f"state-{state} ev-{bar(dwell)}" + ("" if dwell > 0 else " never")
        at = round(float(x[i]), 1)
        off = value * interval / 100
        points.append(
            PointMark(at, upper.at(value), upper.at(value - off), upper.at(value + off), i, row, classes, words)
        )
        mark = PointMark(
            at,
            lower.held(percent),
            lower.held(percent - interval),
            lower.held(percent + interval),
            i,
            row,
            classes,
            words,
        )
        changes.append(mark)
    heads = [f"{point:g}" for point in table.x.breakpoints]
    return LinePicture(
        tuple(line(values) for values in table.grid),
        tuple(line(values) for values in correction.after),
        tuple(points),
        tuple(changes),
        spread_out(x, heads, 34.0),
        upper.ticks(6),
        lower.ticks(4),
        lower.at(0.0),
        split,
        table.unit,
        f"{table.x.title}, {table.x.unit}",
        height,
    )
