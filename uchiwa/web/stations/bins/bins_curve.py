"""A gathering on one axis as a curve, with the scatter and the standard error of each point."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.gathering import GatheredCells
from uchiwa.core.quantities.unit_words import unit_words
from uchiwa.services.bins import BinsWork
from uchiwa.web.svg.scale import Scale, Tick, broken_path, spread_out

_LEFT, _RIGHT, _TOP, _BOTTOM, HEIGHT = 56.0, 800.0, 14.0, 248.0, 280.0


@dataclass(frozen=True)
class CurvePoint:
    """A point: where, how far its scatter reaches, and which cell it is."""

    x: float
    y: float
    low: float
    high: float
    i: int


@dataclass(frozen=True)
class BinsCurve:
    """The curve, its points, and the second gathering's curve."""

    line: str
    points: tuple[CurvePoint, ...]
    second: str
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    x_title: str
    height: float = HEIGHT


def bins_curve(found: BinsWork) -> BinsCurve | None:
    """The curve of a gathering on one axis; None on two, or without any figure."""
    first = found.first
    if first.axes.y is not None or not np.isfinite(first.figure).any():
        return None
    points = first.axes.x.breakpoints
    along = Scale(float(points[0]), float(points[-1]), _LEFT, _RIGHT)
    figure = first.figure[0]
    spread = np.nan_to_num(first.bins.spread[0])
    seen = [figure - spread, figure + spread]
    seen += [found.second.figure[0]] if found.second is not None else []
    upright = Scale.around(np.concatenate(seen), _BOTTOM, _TOP, spare=0.05)
    x = along.places(points)
    marks = tuple(
        CurvePoint(round(float(x[i]), 1), upright.held(float(figure[i])), upright.held(float(figure[i] - spread[i])), upright.held(float(figure[i] + spread[i])), i)
        for i in range(points.size) if np.isfinite(figure[i])
    )  # fmt: skip
    return BinsCurve(
        broken_path(x, upright.places(figure)),
        marks,
        _second(found.second, x, upright),
        spread_out(x, [f"{point:g}" for point in points], 36.0),
        upright.ticks(5),
        f"{first.axes.x.title}, {unit_words(first.axes.x.unit)}",
    )


def _second(second: GatheredCells | None, x: np.ndarray, upright: Scale) -> str:
    return broken_path(x, upright.places(second.figure[0])) if second is not None else ""
