"""Spark over engine speed at full load: what the table has, what was run clean, what knocked, where best torque lies."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from uchiwa.core.proposals.torque.decision import Decision
from uchiwa.core.proposals.torque.proposal import TorqueProposal
from uchiwa.core.pulls.gain import SparkGain
from uchiwa.web.svg.scale import Scale, polyline

WIDTH, HEIGHT = 820.0, 214.0
LEFT, RIGHT, TOP, BOTTOM = 40.0, 16.0, 10.0, 22.0
_WIDE = 1.96


@dataclass(frozen=True)
class Rung:
    """A column of the picture; positions in its units, NaN for what is not known."""

    column: int
    x: float
    before: float
    after: float
    best: float
    best_low: float
    best_high: float
    clean: float
    knocked: float
    advice: str


@dataclass(frozen=True)
class Ladder:
    """The picture: rungs, the marks of its axes, and the lines of the table before and after."""

    rungs: tuple[Rung, ...]
    marks: tuple[tuple[float, str], ...]
    speeds: tuple[tuple[float, str], ...]
    before: str
    after: str


def ladder(proposal: TorqueProposal) -> Ladder:
    """Everything that decides the spark of each column, on one scale."""
    decisions = proposal.decisions
    told = [
        value
        for decision in decisions
        for value in (
            decision.spark,
            decision.after,
            decision.clean,
            decision.knocked,
            decision.gain.lowest,
            _near(decision, decision.best),
        )
        if math.isfinite(value)
    ]
    low, high = min(told) - 1.5, max(told) + 1.5
    first, last = decisions[0].speed, decisions[-1].speed
    wide = max(last - first, 1.0)

    x = Scale(first, first + wide, LEFT + 14, WIDTH - RIGHT - 14).at
    up = Scale(low, high, HEIGHT - BOTTOM, TOP)

    def y(spark: float) -> float:
        return up.held(spark) if math.isfinite(spark) else math.nan

    rungs = tuple(
        Rung(
            decision.column, x(decision.speed), y(decision.spark), y(decision.after), y(decision.best), y(decision.best - _WIDE * decision.best_error),
            y(decision.best + _WIDE * decision.best_error), y(decision.clean), y(decision.knocked), decision.advice.value,
        )
        for decision in decisions
    )  # fmt: skip
    return Ladder(
        rungs,
        up.ticks(6, unit="°"),
        tuple((x(decision.speed), f"{decision.speed:.0f}") for decision in decisions),
        " ".join(f"{rung.x:.1f},{rung.before:.1f}" for rung in rungs),
        " ".join(f"{rung.x:.1f},{rung.after:.1f}" for rung in rungs),
    )


def _near(decision: Decision, value: float) -> float:
    """A best spark only so far away that it does not squeeze the picture."""
    return min(max(value, decision.spark - 8.0), decision.spark + 8.0) if math.isfinite(value) else value


@dataclass(frozen=True)
class Hill:
    """Torque over spark in one band: the runs as dots, the parabola, and the present and best spark."""

    dots: tuple[tuple[float, float, int], ...]
    curve: str
    at: float
    best: float
    sparks: tuple[tuple[float, str], ...]
    torques: tuple[tuple[float, str], ...]


def hill(proposal: TorqueProposal, decision: Decision, width: float = 388.0, height: float = 130.0) -> Hill | None:
    """The runs of a column; None if fewer than two tell anything."""
    gain = decision.gain
    runs = list(gain.runs)
    if len(runs) < 2:
        return None
    band = decision.column
    sparks, levels = proposal.bands.spark[runs, band], proposal.bands.level[runs, band]
    low, high = (
        float(min(sparks.min(), decision.spark)) - 1.0,
        float(max(sparks.max(), decision.spark, decision.after)) + 1.5,
    )
    grid = np.linspace(low, high, 60)
    fitted = _parabola(gain, proposal.gains.loss, grid)
    floor, ceiling = float(levels.min()), float(levels.max())
    if np.isfinite(fitted).any():
        floor, ceiling = min(floor, float(np.nanmin(fitted))), max(ceiling, float(np.nanmax(fitted)))
    pad = max((ceiling - floor) * 0.08, 0.5)
    floor, ceiling = floor - pad, ceiling + pad
    left, bottom = 40.0, height - 18.0

    x = Scale(low, high, left, width - 6)
    y = Scale(floor, ceiling, bottom, 4.0)
    return Hill(
        tuple((x.at(float(a)), y.at(float(b)), run + 1) for a, b, run in zip(sparks, levels, runs, strict=True)),
        polyline(x.places(grid), y.places(fitted)),
        x.at(decision.spark),
        x.at(decision.best) if math.isfinite(decision.best) and low <= decision.best <= high else float("nan"),
        x.ticks(6, unit="°"),
        y.ticks(3),
    )


def _parabola(gain: SparkGain, loss: float, grid: np.ndarray) -> np.ndarray:
    """The fitted torque over spark: through the level and slope at the present spark, with its own or the common bend."""
    if not math.isfinite(gain.gain):
        return np.full(grid.shape, np.nan)
    bend = -loss * gain.level
    if math.isfinite(gain.best) and abs(gain.best - gain.at) > 0.2:
        bend = -gain.gain / (2 * (gain.best - gain.at))
    d = grid - gain.at
    return gain.level + gain.gain * d + bend * d**2
