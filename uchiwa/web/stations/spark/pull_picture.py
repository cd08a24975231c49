"""Pulls over engine speed as aligned bands of curves, and what a script needs to read values off them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from uchiwa.core.pulls.overlay import SHOWN, Overlay
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.web.svg.scale import Scale, Tick, broken_path, moved_apart

WIDTH, LEFT, RIGHT = 820.0, 46.0, 62.0
_HEIGHTS = {
    "wheel_torque": 148.0, "wheel_power": 96.0, "boost_pressure": 66.0, "lambda_measured": 60.0, "spark_advance": 66.0,
    "knock_retard": 44.0,
}  # fmt: skip
_GAP = 9.0
_TOGETHER, _APART = 7.0, 13.0
_TITLES = {
    "wheel_torque": "torque", "wheel_power": "power", "boost_pressure": "boost", "lambda_measured": "λ",
    "spark_advance": "spark", "knock_retard": "retard",
}  # fmt: skip
_DIGITS = {"lambda_measured": 3, "wheel_torque": 1, "wheel_power": 1}
_LEAST_SPAN = {"lambda_measured": 0.06, "spark_advance": 4.0, "knock_retard": 3.0, "boost_pressure": 10.0}
LOOKS = 8
"""Looks of curves: colours and dashes; more pulls than that begin again."""


@dataclass(frozen=True)
class Strip:
    """One band: where it stands, its scale, and a path for each pull (empty if it has none)."""

    quantity: str
    title: str
    unit: str
    top: float
    height: float
    marks: tuple[tuple[float, str], ...]
    paths: tuple[str, ...]


@dataclass(frozen=True)
class EndLabel:
    """The numbers of curves that end at one height, at the right of the first band."""

    x: float
    y: float
    rows: tuple[int, ...]


@dataclass(frozen=True)
class Picture:
    """All bands, the speed axis, and the labels of the curves at the right of the first band."""

    width: float
    height: float
    bottom: float
    strips: tuple[Strip, ...]
    speeds: tuple[tuple[float, str], ...]
    band: tuple[float, float]
    right: float
    ends: tuple[EndLabel, ...]


def _labels(ends: list[tuple[int, float, float]]) -> tuple[EndLabel, ...]:
    """One label for curves that end together, at their height; labels that do not touch."""
    groups: list[list[tuple[int, float, float]]] = []
    for end in sorted(ends, key=lambda one: one[2]):
        if groups and end[2] - groups[-1][-1][2] < _TOGETHER:
            groups[-1].append(end)
        else:
            groups.append([end])
    wanted = [sum(y for _, _, y in group) / len(group) for group in groups]
    return tuple(
        EndLabel(max(x for _, x, _ in group), y, tuple(sorted(row for row, _, _ in group)))
        for group, y in zip(groups, moved_apart(wanted, _APART), strict=True)
    )


def picture(drawn: Overlay, low: float, high: float) -> Picture:
    """The bands of an overlay; `low` and `high` bound the means, rpm."""
    speeds = drawn.speeds
    first, last = float(speeds[0]), float(speeds[-1])
    along = Scale(first, max(last, first + 1.0), LEFT, WIDTH - RIGHT)
    x = along.places(speeds)
    strips: list[Strip] = []
    ends: list[tuple[int, float, float]] = []
    top = 4.0
    for quantity in SHOWN:
        rows = drawn.curves.get(quantity)
        if rows is None:
            continue
        height = _HEIGHTS[quantity]
        up = Scale.around(rows, top + height, top, spare=0.06, least=_LEAST_SPAN.get(quantity, 1.0))
        if quantity == "knock_retard":
            up = Scale(-0.1, max(up.high, 3.0), top + height, top)
        y = up.places(rows)
        unit = QUANTITIES[quantity].unit
        strips.append(
            Strip(
                quantity,
                _TITLES[quantity],
                {"1": "", "deg": "°"}.get(unit, unit),
                top,
                height,
                up.ticks(4 if height > 80 else 3),
                tuple(broken_path(x, row) for row in y),
            )
        )
        if not ends:
            for row, line in enumerate(y):
                known = np.flatnonzero(np.isfinite(line))
                if known.size:
                    ends.append((row, float(x[known[-1]]), float(line[known[-1]])))
        top += height + _GAP
    bottom = top - _GAP
    marks = tuple(Tick(along.at(one), f"{one:.0f}") for one in np.arange(math.ceil(first / 500) * 500, last + 1, 500))
    band = (along.held(low), along.held(high))
    return Picture(WIDTH, bottom + 20, bottom, tuple(strips), marks, band, WIDTH - RIGHT, _labels(ends))


def readings(drawn: Overlay, names: Sequence[str], shown: Picture) -> dict[str, Any]:
    """Values at every speed, for the cursor."""
    return {
        "speeds": drawn.speeds.tolist(),
        "left": LEFT,
        "right": WIDTH - RIGHT,
        "width": WIDTH,
        "names": list(names),
        "curves": [
            {
                "title": strip.title,
                "unit": strip.unit,
                "digits": _DIGITS.get(strip.quantity, 1),
                "rows": [
                    [round(value, 3) if math.isfinite(value) else None for value in row]
                    for row in drawn.curves[strip.quantity].tolist()
                ],
            }
            for strip in shown.strips
        ],
    }
