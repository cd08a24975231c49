"""How an error fell over the rounds, as a small path."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass


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
