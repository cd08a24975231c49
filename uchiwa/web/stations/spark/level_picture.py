"""The level of a knock sensor in safe runs over engine speed, with the limits before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal
from uchiwa.web.stations.spark.pull_picture import ticks

WIDTH, HEIGHT = 820.0, 320.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 40.0, 16.0, 8.0, 22.0


@dataclass(frozen=True)
class LevelPicture:
    """Dots of the level, and the two limits as lines (of the row shown)."""

    dots: tuple[tuple[float, float], ...]
    before: str
    after: str
    marks: tuple[tuple[float, str], ...]
    speeds: tuple[tuple[float, str], ...]


def level_picture(proposal: ThresholdProposal, j: int) -> LevelPicture:
    """The picture for a row of the table."""
    points = proposal.table.x.breakpoints
    low, high = float(points[0]), float(points[-1])
    before, after = proposal.table.grid[j], proposal.after[j]
    top = float(max(before.max(), after.max(), proposal.heard[:, 1].max())) * 1.05

    def x(value: float) -> float:
        return _LEFT + (min(max(value, low), high) - low) / (high - low) * (WIDTH - _LEFT - _RIGHT)

    def y(value: float) -> float:
        return _TOP + (top - value) / top * (HEIGHT - _TOP - _BOTTOM)

    inside = (proposal.heard[:, 0] >= low) & (proposal.heard[:, 0] <= high)
    return LevelPicture(
        tuple((round(x(float(a)), 1), round(y(float(b)), 1)) for a, b in proposal.heard[inside]),
        " ".join(f"{x(float(a)):.1f},{y(float(b)):.1f}" for a, b in zip(points, before, strict=True)),
        " ".join(f"{x(float(a)):.1f},{y(float(b)):.1f}" for a, b in zip(points, after, strict=True)),
        tuple((y(one), f"{one:g}") for one in ticks(0.0, top, 6)),
        tuple((x(float(one)), f"{one:g}") for one in np.unique(points)),
    )
