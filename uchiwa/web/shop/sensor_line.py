"""The line of a linear sensor with its measured points and what is left over at each, as SVG shapes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.cars.sensors import Line
from uchiwa.web.svg.scale import Scale, Tick

WIDTH, HEIGHT = 388.0, 168.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 44.0, 10.0, 10.0, 24.0
_VOLTS = (0.0, 5.0)


@dataclass(frozen=True)
class SensorPoint:
    """A measured point, and where the line has it."""

    x: float
    y: float
    line_y: float
    words: str


@dataclass(frozen=True)
class SensorLine:
    """The line over volts, its points, and the axes."""

    ends: tuple[float, float, float, float]
    points: tuple[SensorPoint, ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    unit: str


def sensor_line(line: Line, points: Sequence[tuple[float, float]], unit: str) -> SensorLine:
    """The picture of a line from 0 to 5 V, or as far as its points reach."""
    volts = np.array([*_VOLTS, *(one for one, _ in points)])
    low, high = float(volts.min()), float(volts.max())
    across = Scale(low, high, _LEFT, WIDTH - _RIGHT)
    ends = line(np.array([low, high]))
    every = np.concatenate([ends, np.array([reading for _, reading in points])])
    up = Scale.around(every, HEIGHT - _BOTTOM, _TOP, spare=0.04)
    marks = tuple(
        SensorPoint(
            across.at(at), up.at(reading), up.at(float(line(np.array(at)))), f"{at:g} V: {reading:g} {unit}".strip()
        )
        for at, reading in points
    )
    return SensorLine(
        (across.at(low), up.at(float(ends[0])), across.at(high), up.at(float(ends[1]))),
        marks,
        across.ticks(5),
        up.ticks(5),
        unit,
    )
