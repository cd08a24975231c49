"""The pictures of a report's first page, as SVG shapes: error maps, pulls over each other, the path of the error."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.services.glance import ErrorMap, Glance, PullCurve
from uchiwa.web.grid.grid import FILL_STEPS, fill_level
from uchiwa.web.svg.scale import Scale, Tick, spread_out

MAP_WIDTH, MAP_HEIGHT = 400.0, 190.0
PULL_WIDTH, PULL_HEIGHT = 400.0, 170.0
PATH_WIDTH, PATH_HEIGHT = 400.0, 96.0
_LEAN, _RICH, _NOT_DRIVEN = (0xD4, 0xA8, 0x53), (0x7F, 0x90, 0xB9), "#EDEBE5"
_FAINTEST = 0.185


@dataclass(frozen=True)
class Square:
    """A cell of an error map."""

    x: float
    y: float
    width: float
    height: float
    fill: str


@dataclass(frozen=True)
class MapPicture:
    """An error map: its round, its cells, and its axes."""

    round: int
    squares: tuple[Square, ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    x_title: str
    y_title: str


@dataclass(frozen=True)
class PullPicture:
    """Pulls over each other: a line each, with the number of its round."""

    lines: tuple[tuple[int, str], ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    gain_percent: float | None


@dataclass(frozen=True)
class PathPicture:
    """The error from round to round."""

    points: tuple[tuple[float, float, int, float], ...]
    line: str
    band: float
    floor: float


def paint(percent: float) -> str:
    """The colour of a cell's error, as an attribute: a PDF's pictures do not see the page's style."""
    if not math.isfinite(percent):
        return _NOT_DRIVEN
    level = fill_level(percent)
    if level == 0:
        return "#FFFFFF"
    part = _FAINTEST + (1.0 - _FAINTEST) * (level - 1) / (FILL_STEPS - 1)
    return "#" + "".join(f"{round(255 - part * (255 - one)):02X}" for one in (_LEAN if percent > 0 else _RICH))


def map_picture(map_: ErrorMap) -> MapPicture:
    """Cells as squares, higher load upwards."""
    rows, columns = map_.percent.shape
    left, bottom = 34.0, MAP_HEIGHT - 18.0
    width, height = (MAP_WIDTH - left - 4.0) / columns, (bottom - 4.0) / rows
    squares = [
        Square(
            round(left + i * width, 2), round(bottom - (j + 1) * height, 2), round(width - 0.8, 2), round(height - 0.8, 2),
            paint(float(map_.percent[j, i])),
        )
        for j in range(rows)
        for i in range(columns)
    ]  # fmt: skip
    table = map_.table
    across = spread_out(left + (np.arange(columns) + 0.5) * width, [f"{x:g}" for x in table.x.breakpoints], 44.0)
    up: tuple[Tick, ...] = ()
    if table.y is not None:
        places = bottom - (np.arange(rows) + 0.5) * height
        up = tuple(
            Tick(round(float(place), 1), f"{y:g}")
            for number, (place, y) in enumerate(zip(places, table.y.breakpoints, strict=True))
            if number % max(1, rows // 6) == 0
        )
    return MapPicture(
        map_.round, tuple(squares), across, up, f"{table.x.title}, {table.x.unit}",
        f"{table.y.title}, {table.y.unit}" if table.y is not None else "",
    )  # fmt: skip


def pull_picture(pulls: tuple[PullCurve, ...]) -> PullPicture | None:
    """Torque over engine speed of the first and the last; None without any."""
    if not pulls:
        return None
    speed = np.concatenate([pull.speed[np.isfinite(pull.torque)] for pull in pulls])
    torque = np.concatenate([pull.torque[np.isfinite(pull.torque)] for pull in pulls])
    along = Scale.around(speed, 40.0, PULL_WIDTH - 6.0)
    up = Scale.around(torque, PULL_HEIGHT - 22.0, 8.0, spare=0.06)
    lines = tuple((pull.round, _line(along, up, pull.speed, pull.torque)) for pull in pulls)
    return PullPicture(lines, along.ticks(6), up.ticks(5), pulls[1].gain_over(pulls[0]) if len(pulls) > 1 else None)


def _line(along: Scale, up: Scale, x: FloatArray, y: FloatArray) -> str:
    known = np.isfinite(y)
    return " ".join(f"{along.at(a)},{up.at(b)}" for a, b in zip(x[known].tolist(), y[known].tolist(), strict=True))


def path_picture(found: Glance) -> PathPicture | None:
    """The error left, round by round; None with fewer than two."""
    if len(found.results) < 2:
        return None
    errors = np.array([result.error_percent for result in found.results])
    up = Scale(0.0, max(float(errors.max()), 4.0), PATH_HEIGHT - 20.0, 14.0)
    along = Scale(0.0, float(errors.size - 1), 30.0, PATH_WIDTH - 40.0)
    points = tuple(
        (along.at(number), up.at(result.error_percent), result.number, result.error_percent)
        for number, result in enumerate(found.results)
    )
    line = " ".join(f"{x},{y}" for x, y, _, _ in points)
    return PathPicture(points, line, up.at(2.0), up.at(0.0))
