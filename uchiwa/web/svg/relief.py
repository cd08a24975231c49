"""A table as a relief seen from above and aside: SVG shapes, computed here."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.table import Table

WIDTH, HEIGHT = 820.0, 372.0
TURNS = 24
_START = -30.0


@dataclass(frozen=True)
class Patch:
    """A piece of the relief between four breakpoints."""

    points: str
    classes: str
    i: int
    j: int
    words: str


@dataclass(frozen=True)
class ReliefPicture:
    """A table seen from above and aside, the far pieces first; `trail` is a path of operating points upon it."""

    patches: tuple[Patch, ...]
    floor: str
    labels: tuple[tuple[float, float, str], ...]
    turn: int
    trail: str = ""


@dataclass(frozen=True, eq=False)
class ReliefStyle:
    """How values are drawn as a surface.

    Attributes:
        ends: the values that stand at the bottom and at the top.
        fill: class of a piece by the mean of its corners.
        seen: cells that have been visited; pieces without one are marked.
    """

    ends: tuple[float, float]
    fill: Callable[[float], str]
    seen: BoolArray


def relief(
    table: Table,
    values: FloatArray,
    look: ReliefStyle,
    turn: int,
    trail: FloatArray | None = None,
) -> ReliefPicture:
    """The surface of values over a table's axes, turned by 24ths of a full turn.

    Args:
        table: with two axes, evenly spaced in the picture.
        values: shape (rows, columns).
        look: how they are drawn.
        turn: 0 … 23.
        trail: operating points (x, y) in the units of the axes; shape (points, 2).
    """
    low, high = look.ends
    z = (values - low) / ((high - low) or 1.0)
    rows, columns = table.shape
    across, deep = np.meshgrid(np.linspace(-1, 1, columns), np.linspace(-0.8, 0.8, rows))
    angle = math.radians(_START + 360.0 / TURNS * (turn % TURNS))

    def project(a: FloatArray, d: FloatArray, height: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        ahead, away = a * math.cos(angle) - d * math.sin(angle), a * math.sin(angle) + d * math.cos(angle)
        return WIDTH / 2 + ahead * 272, HEIGHT * 0.49 - away * 90 - (height - 0.5) * 120, away

    px, py, away = project(across, deep, z)
    ground = HEIGHT * 0.49 - away * 90 + 60
    middle_away = (away[:-1, :-1] + away[1:, :-1] + away[:-1, 1:] + away[1:, 1:]) / 4
    middle = (values[:-1, :-1] + values[1:, :-1] + values[:-1, 1:] + values[1:, 1:]) / 4
    visited = look.seen[:-1, :-1] | look.seen[1:, :-1] | look.seen[:-1, 1:] | look.seen[1:, 1:]
    corner = [
        [f"{a:.1f},{b:.1f}" for a, b in zip(*line, strict=True)] for line in zip(px.tolist(), py.tolist(), strict=True)
    ]
    xs = [f"{point:g} {table.x.unit}" for point in table.x.breakpoints]
    ys = [f"{point:g} {table.y.unit}" for point in table.y.breakpoints] if table.y is not None else [""]
    patches = []
    for flat in np.argsort(-middle_away, axis=None, kind="stable").tolist():
        j, i = divmod(flat, columns - 1)
        points = " ".join((corner[j][i], corner[j][i + 1], corner[j + 1][i + 1], corner[j + 1][i]))
        classes = look.fill(float(middle[j, i])) + ("" if visited[j, i] else " never")
        patches.append(Patch(points, classes, i, j, f"{xs[i]}, {ys[j]}"))
    return ReliefPicture(
        tuple(patches),
        " ".join(f"{px[a, b]:.1f},{ground[a, b]:.1f}" for a, b in _corners(rows, columns)),
        _labels(table, px, ground, away),
        turn % TURNS,
        _trail(table, values, look.ends, trail, project) if trail is not None and trail.size else "",
    )


def _corners(rows: int, columns: int) -> tuple[tuple[int, int], ...]:
    return ((0, 0), (0, columns - 1), (rows - 1, columns - 1), (rows - 1, 0))


def _labels(table: Table, px: FloatArray, ground: FloatArray, away: FloatArray) -> tuple[tuple[float, float, str], ...]:
    ends = _corners(*table.shape)
    farthest = max(ends, key=lambda end: float(away[end]))
    labels = []
    for a, b in ends:
        if (a, b) != farthest:
            text = f"{table.x.breakpoints[b]:.4g}"
            if table.y is not None:
                text += f" · {table.y.breakpoints[a]:.3g}"
            labels.append((round(float(px[a, b]), 1), round(float(ground[a, b]) + 15, 1), text))
    return tuple(labels)


def _trail(
    table: Table,
    values: FloatArray,
    ends: tuple[float, float],
    trail: FloatArray,
    project: Callable[[FloatArray, FloatArray, FloatArray], tuple[FloatArray, FloatArray, FloatArray]],
) -> str:
    if table.y is None:
        return ""
    i, fx = table.x.place(trail[:, 0])
    j, fy = table.y.place(trail[:, 1])
    rows, columns = table.shape
    lower = values[j, i] * (1 - fx) + values[j, i + 1] * fx
    upper = values[j + 1, i] * (1 - fx) + values[j + 1, i + 1] * fx
    z = (lower * (1 - fy) + upper * fy - ends[0]) / ((ends[1] - ends[0]) or 1.0)
    px, py, _ = project(-1 + 2 * (i + fx) / (columns - 1), -0.8 + 1.6 * (j + fy) / (rows - 1), z)
    return " ".join(f"M{a:.0f} {b:.0f}h0" for a, b in zip(px.tolist(), py.tolist(), strict=True))
