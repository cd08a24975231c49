"""The level of a knock sensor in safe runs over engine speed, with the limits before and after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal
from uchiwa.web.svg.scale import Scale, Tick, polyline

WIDTH, HEIGHT = 820.0, 320.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 40.0, 16.0, 8.0, 22.0


@dataclass(frozen=True)
class LevelPicture:
    """Dots of the level, and the two limits as lines (of the row shown)."""

    dots: tuple[tuple[float, float], ...]
    before: str
    after: str
    marks: tuple[Tick, ...]
    speeds: tuple[Tick, ...]


def level_picture(proposal: ThresholdProposal, j: int) -> LevelPicture:
    """The picture for a row of the table."""
    points = proposal.table.x.breakpoints
    low, high = float(points[0]), float(points[-1])
    before, after = proposal.table.grid[j], proposal.after[j]
    top = float(max(before.max(), after.max(), proposal.heard[:, 1].max())) * 1.05

    x = Scale(low, high, _LEFT, WIDTH - _RIGHT)
    y = Scale(0.0, top, HEIGHT - _BOTTOM, _TOP)
    inside = (proposal.heard[:, 0] >= low) & (proposal.heard[:, 0] <= high)
    return LevelPicture(
        tuple((x.held(float(a)), y.at(float(b))) for a, b in proposal.heard[inside]),
        polyline(x.places(points), y.places(before)),
        polyline(x.places(points), y.places(after)),
        y.ticks(6),
        tuple(Tick(x.at(float(point)), f"{point:g}") for point in np.unique(points)),
    )
