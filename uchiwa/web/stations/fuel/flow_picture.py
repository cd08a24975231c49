"""The ways of telling air, over airflow, as SVG."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.airflow.crosscheck import APART_PERCENT, CrossCheck
from uchiwa.web.svg.scale import Scale, Tick, moved_apart

WIDTH, HEIGHT = 820.0, 330.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 46.0, 132.0, 14.0, 34.0
_LEAST_PERCENT = 6.0


@dataclass(frozen=True)
class WayLine:
    """One way: its dots and the line through them, and where its name stands."""

    way: str
    line: str
    dots: tuple[tuple[float, float], ...]
    label_y: float


@dataclass(frozen=True)
class FlowPicture:
    """Deviation from the middle over airflow, on a logarithmic axis."""

    lines: tuple[WayLine, ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    band: tuple[float, float]
    zero: float


def flow_picture(check: CrossCheck) -> FlowPicture:
    """The picture of a cross-check."""
    logs = np.log(check.flow)
    across = _LEFT + (logs - logs[0]) / (logs[-1] - logs[0]) * (WIDTH - _LEFT - _RIGHT)
    every = np.concatenate([np.abs(check.percent[way]) for way in check.ways]) if check.ways else np.zeros(1)
    largest = float(np.nanmax(every)) if np.isfinite(every).any() else 0.0
    reach = max(_LEAST_PERCENT, math.ceil(largest * 1.15))
    up = Scale(-reach, reach, HEIGHT - _BOTTOM, _TOP)

    lines: list[WayLine] = []
    for way in check.ways:
        dots = tuple(
            (round(float(x), 1), up.at(float(value)))
            for x, value in zip(across, check.percent[way], strict=True)
            if math.isfinite(value)
        )
        lines.append(WayLine(way, " ".join(f"{x},{y}" for x, y in dots), dots, dots[-1][1] if dots else 0.0))
    return FlowPicture(
        _apart(lines),
        tuple(Tick(round(float(x), 1), f"{point:g}") for x, point in zip(across, check.flow, strict=True)),
        up.ticks(6, signed=True),
        (up.at(APART_PERCENT), up.at(-APART_PERCENT)),
        up.at(0.0),
    )  # fmt: skip


def _apart(lines: list[WayLine]) -> tuple[WayLine, ...]:
    """Names that do not stand on each other."""
    labels = moved_apart([line.label_y for line in lines], 15.0)
    return tuple(replace(line, label_y=label) for line, label in zip(lines, labels, strict=True))
