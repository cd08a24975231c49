"""Honest axes: one unit to an axis, at most two axes to a strip, and both with the same grid lines."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from uchiwa.core.viewing.ticks import decimals_of, nice_step

MOST_AXES = 2


@dataclass(frozen=True)
class ScaleOfUnit:
    """An axis of a strip.

    Attributes:
        unit: of all traces on it.
        low, high: its ends.
        ticks: where its labels and the grid lines stand, low and high among them.
        decimals: digits after the point that tell the ticks apart.
    """

    unit: str
    low: float
    high: float
    ticks: tuple[float, ...]
    decimals: int


def scales(ranges: Mapping[str, Sequence[tuple[float, float]]], divisions: int) -> tuple[ScaleOfUnit, ...]:
    """One axis for each unit, all with the same number of divisions, so that their grid lines are the same lines.

    Args:
        ranges: of every trace by unit, lowest and highest value.
        divisions: between grid lines, 1 or more.

    Raises:
        ValueError: there are more units than axes.
    """
    if len(ranges) > MOST_AXES:
        raise ValueError(f"a strip has {MOST_AXES} axes, not {len(ranges)}")
    return tuple(_scale(unit, list(found), divisions) for unit, found in ranges.items())


def _scale(unit: str, ranges: list[tuple[float, float]], divisions: int) -> ScaleOfUnit:
    low = min((one for one, _ in ranges), default=0.0)
    high = max((other for _, other in ranges), default=1.0)
    if not (math.isfinite(low) and math.isfinite(high)):
        low, high = 0.0, 1.0
    if high - low < 1e-9 * max(1.0, abs(low), abs(high)):
        spare = max(abs(high) * 0.05, 0.5)
        low, high = low - spare, high + spare
    step = nice_step((high - low) / divisions)
    while math.floor(low / step + 1e-9) * step + divisions * step < high - 1e-9 * step:
        step = nice_step(step * 1.01)
    first = math.floor(low / step + 1e-9) * step
    ticks = tuple(round(first + number * step, 12) for number in range(divisions + 1))
    return ScaleOfUnit(unit, ticks[0], ticks[-1], ticks, decimals_of(step))
