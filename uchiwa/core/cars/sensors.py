"""Linear sensors: a line from points, its residuals, and common lines of wideband gauges and pressure sensors."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray


@dataclass(frozen=True)
class Line:
    """Reading = slope · volts + offset."""

    slope: float
    offset: float

    def __call__(self, volts: FloatArray) -> FloatArray:
        """Readings at some voltages."""
        return volts * self.slope + self.offset


@dataclass(frozen=True)
class LineFit:
    """A line through measured points.

    Attributes:
        line: the least-squares line.
        residuals: reading of each point less the line there, in the reading's unit.
        rms: root of the mean square of the residuals.
    """

    line: Line
    residuals: tuple[float, ...]
    rms: float


def fit_line(points: Sequence[tuple[float, float]]) -> LineFit:
    """Least squares through points (volts, reading); exact through two.

    Raises:
        BadInput: fewer than two different voltages, or a point that is not a number.
    """
    if len(points) < 2:
        raise BadInput("a line needs two points", advice="measure a second one, far from the first")
    volts, readings = np.array(points, dtype=np.float64).T
    if not (np.isfinite(volts).all() and np.isfinite(readings).all()):
        raise BadInput("a point is not a number", advice="write volts and reading as plain numbers")
    if np.ptp(volts) < 1e-3:
        raise BadInput("all points have the same voltage", advice="measure a second one at another mixture or pressure")
    centre = volts.mean()
    slope = float(((volts - centre) * readings).sum() / ((volts - centre) ** 2).sum())
    line = Line(slope, float(readings.mean() - slope * centre))
    residuals = readings - line(volts)
    return LineFit(line, tuple(residuals.tolist()), float(np.sqrt((residuals**2).mean())))


@dataclass(frozen=True)
class CommonLine:
    """A linear output that many sensors share, by its end points."""

    id: str
    title: str
    points: tuple[tuple[float, float], tuple[float, float]]

    @property
    def line(self) -> Line:
        """The line through the end points."""
        return fit_line(self.points).line


WIDEBAND_LINES: dict[str, CommonLine] = {
    common_line.id: common_line
    for common_line in (
        CommonLine("0-5=0.50-1.50", "0–5 V is λ 0.50–1.50", ((0.0, 0.50), (5.0, 1.50))),
        CommonLine("0-5=0.68-1.36", "0–5 V is λ 0.68–1.36", ((0.0, 0.68), (5.0, 1.36))),
        CommonLine("0-5=0.65-1.30", "0–5 V is λ 0.65–1.30", ((0.0, 0.65), (5.0, 1.30))),
        CommonLine("0.5-4.5=0.70-1.30", "0.5–4.5 V is λ 0.70–1.30", ((0.5, 0.70), (4.5, 1.30))),
        CommonLine("1-4=0.70-1.30", "1–4 V is λ 0.70–1.30", ((1.0, 0.70), (4.0, 1.30))),
        CommonLine("0-5=10-20", "0–5 V is AFR 10–20 on petrol", ((0.0, 10.0 / 14.7), (5.0, 20.0 / 14.7))),
        CommonLine("0-5=9-19", "0–5 V is AFR 9–19 on petrol", ((0.0, 9.0 / 14.7), (5.0, 19.0 / 14.7))),
    )
}

PRESSURE_LINES: dict[str, CommonLine] = {
    common_line.id: common_line
    for common_line in (
        CommonLine("1bar", "1 bar: 0.5–4.5 V is 10–105 kPa", ((0.5, 10.0), (4.5, 105.0))),
        CommonLine("2bar", "2 bar: 0.5–4.5 V is 10–205 kPa", ((0.5, 10.0), (4.5, 205.0))),
        CommonLine("3bar", "3 bar: 0.5–4.5 V is 10–305 kPa", ((0.5, 10.0), (4.5, 305.0))),
        CommonLine("4bar", "4 bar: 0.5–4.5 V is 20–400 kPa", ((0.5, 20.0), (4.5, 400.0))),
    )
}
