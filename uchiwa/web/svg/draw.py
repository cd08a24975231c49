"""Shapes for the pages' SVG: the fan, error paths, the spread of a cell's samples."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from uchiwa.core.proposals.fuel.explanation import CellAccount
from uchiwa.core.rounds.progress import Standing, Station
from uchiwa.core.tables.difference import signed
from uchiwa.core.viewing.window import Line


@dataclass(frozen=True)
class Rib:
    """One sector of a fan.

    Attributes:
        station, standing: what it stands for and how.
        path: SVG path of the sector.
        x, y, turn: where its label stands and by how many degrees it is turned.
        rib: SVG path of the stick below it.
    """

    station: Station
    standing: Standing
    path: str
    x: float
    y: float
    turn: float
    rib: str


def _sector(cx: float, cy: float, inner: float, outer: float, start: float, end: float) -> str:
    """A ring sector; angles in degrees from straight up, clockwise."""

    def at(radius: float, angle: float) -> str:
        turned = math.radians(angle)
        return f"{cx + radius * math.sin(turned):.2f} {cy - radius * math.cos(turned):.2f}"

    return (
        f"M {at(outer, start)} A {outer} {outer} 0 0 1 {at(outer, end)} "
        f"L {at(inner, end)} A {inner} {inner} 0 0 0 {at(inner, start)} Z"
    )


def fan(
    standing: dict[Station, Standing],
    cx: float,
    cy: float,
    inner: float,
    outer: float,
    spread: float,
    stick: float,
    *,
    along: bool = False,
) -> list[Rib]:
    """The sectors of a fan.

    Args:
        standing: of each station, in order.
        cx, cy: the pivot.
        inner, outer: radii of the sheet.
        spread: whole angle in degrees.
        stick: radius at which the sticks end below the sheet.
        along: labels run along the radius instead of across it.
    """
    step = spread / len(standing)
    ribs: list[Rib] = []
    for number, (station, how) in enumerate(standing.items()):
        start = -spread / 2 + number * step
        middle = math.radians(start + step / 2)
        label = (inner + outer) / 2
        turn = start + step / 2
        if along:
            turn += -90 if turn > 0 else 90
        edge = math.radians(start)
        line = " ".join(
            f"{cx + radius * math.sin(edge):.2f} {cy - radius * math.cos(edge):.2f}" for radius in (inner, stick)
        )
        ribs.append(
            Rib(
                station,
                how,
                _sector(cx, cy, inner, outer, start, start + step),
                round(cx + label * math.sin(middle), 2),
                round(cy - label * math.cos(middle), 2),
                round(turn, 2),
                f"M {line}",
            )
        )
    return ribs


_Stood = tuple[tuple[Station, Standing], ...]


def wide_fan(standing: dict[Station, Standing]) -> list[Rib]:
    """The fan across the head of a page, in a 560 × 92 box."""
    return fan(standing, 280.0, 1206.0, 1150.0, 1198.0, 26.6, 1112.0)


def small_fan(standing: dict[Station, Standing]) -> list[Rib]:
    """The unlabelled fan of a list, in a 48 × 36 box."""
    return _small_fan(tuple(standing.items()))


@lru_cache(maxsize=1024)
def _small_fan(standing: _Stood) -> list[Rib]:
    return fan(dict(standing), 24.0, 27.0, 10.5, 24.0, 150.0, 2.0)


def large_fan(standing: dict[Station, Standing]) -> list[Rib]:
    """The fan of a margin, in a 230 × 142 box."""
    return fan(standing, 115.0, 122.0, 62.0, 116.0, 150.0, 4.0, along=True)


@dataclass(frozen=True)
class PathPoint:
    """A point of an error path with its label."""

    x: float
    y: float
    text: str


@dataclass(frozen=True)
class ErrorPath:
    """How the error fell over the rounds: SVG points, labelled points, and the height of the ±2 % band."""

    line: str
    points: tuple[PathPoint, ...]
    band: float
    floor: float


def error_path(values: Sequence[float], width: float, height: float, slots: int, top: float) -> ErrorPath:
    """The path of an error, in %, in a box; `slots` rounds wide, `top` % high."""
    step = width / max(slots, 1)
    points = tuple(
        PathPoint(round(step * (number + 0.5), 1), round(height * (1 - min(value, top) / top), 1), f"{value:.1f}")
        for number, value in enumerate(values)
    )
    band = height * 2.0 / top
    return ErrorPath(" ".join(f"{p.x},{p.y}" for p in points), points, round(band, 1), round(height - band, 1))


@dataclass(frozen=True)
class DotMark:
    """A sample in the picture of a cell's spread."""

    x: float
    y: float
    log: int


@dataclass(frozen=True)
class SpreadPicture:
    """The spread of a cell's samples along an axis in %."""

    dots: tuple[DotMark, ...]
    ticks: tuple[tuple[float, str], ...]
    mean: float
    zero: float


_DOT_ROWS = 11
_SIDE = 18


def spread_picture(account: CellAccount, width: float, height: float) -> SpreadPicture | None:
    """Dots over an axis in %, each on a row of its own kind so that they do not hide each other."""
    if not account.dots:
        return None
    values = sorted(dot.percent for dot in account.dots)
    low = min(values[len(values) // 200], (account.mean - 1) * 100, 0.0)
    high = max(values[-1 - len(values) // 200], (account.mean - 1) * 100, 0.0)
    step = next((one for one in (0.5, 1, 2, 4, 5, 10, 20, 50) if (high - low) / one <= 8), 100)
    first, last = math.floor(low / step) * step, math.ceil(high / step) * step
    last = last if last > first else first + step

    def along(value: float) -> float:
        return round(_SIDE + (width - 2 * _SIDE) * (min(max(value, first), last) - first) / (last - first), 1)

    dots = tuple(
        DotMark(
            along(dot.percent), round(6 + (height - 12) * ((number * 7) % _DOT_ROWS) / (_DOT_ROWS - 1), 1), dot.log % 3
        )
        for number, dot in enumerate(account.dots)
    )
    count = round((last - first) / step)
    places = 0 if step >= 1 else 1
    ticks = tuple((along(first + k * step), signed(first + k * step, places)) for k in range(count + 1))
    return SpreadPicture(dots, ticks, along((account.mean - 1) * 100), along(0.0))


def trace_path(line: Line, width: float, height: float) -> str:
    """The SVG path of a trace over its whole range, broken at gaps."""
    known = np.isfinite(line.values)
    if not known.any():
        return ""
    low, high = float(line.values[known].min()), float(line.values[known].max())
    span, length = (high - low) or 1.0, float(line.time[-1] - line.time[0]) or 1.0
    xs = (line.time - line.time[0]) / length * width
    ys = height - 4 - (line.values - low) / span * (height - 8)
    parts: list[str] = []
    down = False
    for x, y, here in zip(xs, ys, known, strict=True):
        if here:
            parts.append(f"{'L' if down else 'M'}{x:.1f} {y:.1f}")
        down = bool(here)
    return "".join(parts)
