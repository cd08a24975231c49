"""A clamp as a picture: signal over engine speed, the pulls, what they reached, the clamp, and what lies above it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.proposals.clamp.evidence import axes_of
from uchiwa.core.proposals.clamp.proposal import ClampProposal
from uchiwa.web.svg.scale import Scale, Tick, polyline, spread_out

WIDTH, HEIGHT = 820.0, 236.0
_LEFT, _RIGHT, _TOP, _BOTTOM = 46.0, 804.0, 12.0, 202.0
_MOST_DOTS = 600


@dataclass(frozen=True)
class ClampPicture:
    """Dots of the pulls, what they reached, the clamp, the region above it, and the sensor's ceiling."""

    dots: tuple[tuple[float, float], ...]
    reached: str
    limit: str
    clamped: str
    ceiling: float | None
    rows: tuple[float, ...]
    x: tuple[Tick, ...]
    y: tuple[Tick, ...]
    unit: str
    x_title: str
    width: float = WIDTH
    height: float = HEIGHT
    bottom: float = _BOTTOM


def clamp_picture(proposal: ClampProposal) -> ClampPicture:
    """The picture of a clamp; the signal's breakpoints are ticks at its left edge."""
    evidence, policy = proposal.evidence, proposal.policy
    speeds, signals = axes_of(proposal.table)
    points = speeds.breakpoints
    top = max(float(signals.breakpoints[-1]), float(proposal.limit.max()), evidence.highest) * 1.06
    shows_ceiling = policy.ceiling <= top * 1.1
    top = max(top, policy.ceiling * 1.03) if shows_ceiling else top
    x = Scale(float(points[0]), float(points[-1]), _LEFT, _RIGHT)
    y = Scale(0.0, top, _BOTTOM, _TOP)
    at = np.arange(0, evidence.speed.size, max(1, evidence.speed.size // _MOST_DOTS))
    along, limit = x.places(points), y.places(proposal.limit)
    above = f"{polyline(along, limit)} {_RIGHT:.1f},{_TOP:.1f} {_LEFT:.1f},{_TOP:.1f}"
    return ClampPicture(
        tuple(
            (x.held(float(a)), y.held(float(b))) for a, b in zip(evidence.speed[at], evidence.signal[at], strict=True)
        ),
        polyline(along, y.places(evidence.reached)),
        polyline(along, limit),
        above,
        y.at(policy.ceiling) if shows_ceiling else None,
        tuple(y.at(float(breakpoint_)) for breakpoint_ in signals.breakpoints),
        spread_out(along, [f"{point:g}" for point in points], 40.0),
        y.ticks(5),
        signals.unit,
        f"{speeds.title}, {speeds.unit}",
    )
