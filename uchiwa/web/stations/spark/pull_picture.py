"""Pulls over engine speed as aligned bands of curves, and what a script needs to read values off them."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.pulls.overlay import SHOWN, Overlay
from uchiwa.core.quantities.catalogue import QUANTITIES

WIDTH, LEFT, RIGHT = 820.0, 46.0, 22.0
_HEIGHTS = {
    "wheel_torque": 148.0, "wheel_power": 96.0, "boost_pressure": 66.0, "lambda_measured": 60.0, "spark_advance": 66.0,
    "knock_retard": 44.0,
}  # fmt: skip
_GAP = 9.0
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
class Picture:
    """All bands, the speed axis, and the labels of the curves at the right of the first band."""

    width: float
    height: float
    bottom: float
    strips: tuple[Strip, ...]
    speeds: tuple[tuple[float, str], ...]
    band: tuple[float, float]
    ends: tuple[tuple[int, float, float], ...]


def ticks(low: float, high: float, about: int) -> list[float]:
    """Round values between two ends, some `about` of them."""
    rough = (high - low) / max(about, 1)
    power = 10.0 ** math.floor(math.log10(rough))
    step = next(one * power for one in (1, 2, 2.5, 5, 10) if one * power >= rough * 0.999)
    return [float(np.round(one * step, 6)) for one in range(math.ceil(low / step), math.floor(high / step) + 1)]


def _path(x: FloatArray, y: FloatArray) -> str:
    """A polyline with gaps where there is nothing."""
    parts, pen = [], False
    for a, b in zip(x.tolist(), y.tolist(), strict=True):
        if not math.isfinite(b):
            pen = False
            continue
        parts.append(f"{'L' if pen else 'M'}{a:.1f} {b:.1f}")
        pen = True
    return "".join(parts)


def _spread(wanted: list[tuple[int, float, float]], apart: float) -> tuple[tuple[int, float, float], ...]:
    """Labels moved down so that none stands on another."""
    placed: list[tuple[int, float, float]] = []
    for row, x, y in sorted(wanted, key=lambda one: one[2]):
        near = [at for _, other, at in placed if abs(other - x) < 2 * apart]
        placed.append((row, x, max([y, *(at + apart for at in near)])))
    return tuple(placed)


def picture(drawn: Overlay, low: float, high: float) -> Picture:
    """The bands of an overlay; `low` and `high` bound the means, rpm."""
    speeds = drawn.speeds
    first, last = float(speeds[0]), float(speeds[-1])
    scale = (WIDTH - LEFT - RIGHT) / max(last - first, 1.0)
    x = LEFT + (speeds - first) * scale
    strips: list[Strip] = []
    ends: list[tuple[int, float, float]] = []
    top = 4.0
    for quantity in SHOWN:
        rows = drawn.curves.get(quantity)
        if rows is None:
            continue
        height = _HEIGHTS[quantity]
        floor, ceiling = float(np.nanmin(rows)), float(np.nanmax(rows))
        span = max(ceiling - floor, _LEAST_SPAN.get(quantity, 1.0))
        middle = (ceiling + floor) / 2
        floor, ceiling = middle - span * 0.56, middle + span * 0.56
        if quantity == "knock_retard":
            floor, ceiling = -0.1, max(ceiling, 3.0)
        y = top + (ceiling - rows) / (ceiling - floor) * height
        marks = tuple(
            (top + (ceiling - one) / (ceiling - floor) * height, f"{one:g}".replace("-", "−"))
            for one in ticks(floor, ceiling, 4 if height > 80 else 3)
        )
        unit = QUANTITIES[quantity].unit
        strips.append(
            Strip(
                quantity,
                _TITLES[quantity],
                {"1": "", "deg": "°"}.get(unit, unit),
                top,
                height,
                marks,
                tuple(_path(x, row) for row in y),
            )
        )
        if not ends:
            for row, line in enumerate(y):
                known = np.flatnonzero(np.isfinite(line))
                if known.size:
                    ends.append((row, float(x[known[-1]]), float(line[known[-1]])))
        top += height + _GAP
    bottom = top - _GAP
    marks = tuple(
        (LEFT + (one - first) * scale, f"{one:.0f}") for one in np.arange(math.ceil(first / 500) * 500, last + 1, 500)
    )
    band = (LEFT + (min(max(low, first), last) - first) * scale, LEFT + (min(max(high, first), last) - first) * scale)
    return Picture(WIDTH, bottom + 20, bottom, tuple(strips), marks, band, _spread(ends, 11.0))


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
                "title": one.title,
                "unit": one.unit,
                "digits": _DIGITS.get(one.quantity, 1),
                "rows": [
                    [round(value, 3) if math.isfinite(value) else None for value in row]
                    for row in drawn.curves[one.quantity].tolist()
                ],
            }
            for one in shown.strips
        ],
    }
