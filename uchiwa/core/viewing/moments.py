"""Moments to jump to: the extremes of a trace, and where a condition begins to hold."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np

from uchiwa.core.viewing.pyramid import Source

Extreme = Literal["highest", "lowest"]
Direction = Literal["next", "previous"]
_SAME_MOMENT_S = 1e-6


def extreme(time: Source, values: Source, which: Extreme) -> tuple[float, float] | None:
    """Time and value of the first sample with a signal's highest or lowest reading; None if it has none.

    Only the block in which it lies is read as samples.
    """
    first, last = 0, values.size
    if values.blocks:
        block = values.blocks[0]
        level = values.level(block)
        ends = level.high if which == "highest" else level.low
        if not np.isfinite(ends).any():
            return None
        number = int(np.nanargmax(ends) if which == "highest" else np.nanargmin(ends))
        first, last = number * block, min((number + 1) * block, values.size)
    part = values.samples(first, last)
    if not np.isfinite(part).any():
        return None
    at = int(np.nanargmax(part) if which == "highest" else np.nanargmin(part))
    return float(time.samples(first + at, first + at + 1)[0]), float(part[at])


def neighbour(
    found: Sequence[tuple[float, float]], moment: float, direction: Direction
) -> tuple[int, tuple[float, float]] | None:
    """The stretch that begins next after a moment, or last before it, with its number; None if there is none.

    Args:
        found: in order of their beginnings, s.
        moment: s.
    """
    starts = np.array([start for start, _ in found])
    if direction == "next":
        number = int(np.searchsorted(starts, moment + _SAME_MOMENT_S, side="right"))
        return (number, found[number]) if number < len(found) else None
    number = int(np.searchsorted(starts, moment - _SAME_MOMENT_S, side="left")) - 1
    return (number, found[number]) if number >= 0 else None
