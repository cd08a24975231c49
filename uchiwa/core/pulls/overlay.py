"""Pulls over each other: every reading on the same engine speeds, means over a band, and what chance explains."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.pulls.curve import over_speed, raggedness, speed_grid
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.repeat import Repeatability

SHOWN = (
    "wheel_torque", "wheel_power", "boost_pressure", "lambda_measured", "spark_advance", "knock_retard",
)  # fmt: skip
_CORRECTED = ("wheel_torque", "wheel_power")
_SMOOTHED = frozenset({"wheel_torque", "wheel_power", "boost_pressure", "lambda_measured"})


class PullView(BaseModel):
    """How pulls are looked at. All keys are optional.

    Attributes:
        corrected: whether torque and power are corrected for the weather.
        window: rpm over which torque, power, boost and mixture are smoothed; 0 for not at all.
        slope_percent: of the road, for road logs.
        low, high: engine speeds between which means are taken, rpm.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    corrected: bool = True
    window: Annotated[float, Field(ge=0, le=2000)] = 400.0
    slope_percent: Annotated[float, Field(ge=-25, le=25)] = 0.0
    low: Annotated[float, Field(ge=0, le=20000)] = 3000.0
    high: Annotated[float, Field(ge=0, le=20000)] = 6000.0


@dataclass(frozen=True, eq=False)
class Overlay:
    """Pulls on one grid of engine speed.

    Attributes:
        speeds: rpm; shape (m,).
        curves: by quantity, shape (pulls, m); NaN where a pull was not, or did not record it.
        factors: by which torque and power were multiplied; 1 where not corrected.
    """

    speeds: FloatArray
    curves: dict[str, FloatArray]
    factors: tuple[float, ...]


def overlay(pulls: Sequence[Pull], view: PullView) -> Overlay:
    """Every shown reading of every pull on the speeds they cover together.

    Spark and retard are joined as they are, for smoothing would hide their steps; so is everything with `window` 0.
    """
    known = [one.speed[one.good & np.isfinite(one.speed)] for one in pulls]
    spans = [(float(one.min()), float(one.max())) for one in known if one.size]
    grid = speed_grid(min(a for a, _ in spans), max(b for _, b in spans)) if spans else np.array([2000.0, 2050.0])
    factors = tuple(one.factor if view.corrected and math.isfinite(one.factor) else 1.0 for one in pulls)
    curves: dict[str, FloatArray] = {}
    for quantity in SHOWN:
        rows = np.full((len(pulls), grid.size), np.nan)
        for row, pull in enumerate(pulls):
            values = pull.get(quantity)
            if values is None:
                continue
            here = np.where(pull.good, values, np.nan)
            rows[row] = over_speed(pull.speed, here, grid, view.window if quantity in _SMOOTHED else 0.0)
            if quantity in _CORRECTED:
                rows[row] *= factors[row]
        if np.isfinite(rows).any():
            curves[quantity] = rows
    return Overlay(grid, curves, factors)


@dataclass(frozen=True)
class PullComparison:
    """A pull against another over a band.

    Attributes:
        mean: torque over the band, Nm; NaN if it did not run through most of it.
        difference: from the reference's, Nm.
        chance: Nm by which two such runs differ by chance (95 %).
        told: whether the difference is more than that.
        power: highest power in the band, kW.
        alike: whether it was measured as the reference was; otherwise the difference says nothing.
        reference: whether it is the one that the others are held against.
        ragged: how much torque jumps from sample to sample, as a share.
    """

    mean: float
    difference: float
    chance: float
    told: bool
    alike: bool
    reference: bool
    power: float
    ragged: float


def compare(
    pulls: Sequence[Pull], drawn: Overlay, repeats: Repeatability, low: float, high: float
) -> tuple[PullComparison, ...]:
    """Each pull's mean torque over a band, against the first of the kind of which most ran through it."""
    inside = (drawn.speeds >= low) & (drawn.speeds <= high)
    torque, power = drawn.curves.get("wheel_torque"), drawn.curves.get("wheel_power")
    means = [_mean(torque, row, inside) for row in range(len(pulls))]
    through = [pull.measured for pull, mean in zip(pulls, means, strict=True) if math.isfinite(mean)]
    kind = max(dict.fromkeys(through), key=through.count, default="")
    first = next((row for row, pull in enumerate(pulls) if pull.measured == kind and math.isfinite(means[row])), None)
    reference = means[first] if first is not None else float("nan")
    chance = repeats.interval() * reference
    found = []
    for row, (pull, mean) in enumerate(zip(pulls, means, strict=True)):
        difference = mean - reference
        alike = pull.measured == kind
        top = float("nan")
        if power is not None and inside.any() and np.isfinite(power[row, inside]).any():
            top = float(np.nanmax(power[row, inside]))
        ragged = raggedness(np.where(pull.known, pull.torque, np.nan))
        told = alike and row != first and abs(difference) > chance
        found.append(PullComparison(mean, difference, chance, told, alike, row == first, top, ragged))
    return tuple(found)


def _mean(torque: FloatArray | None, row: int, inside: BoolArray) -> float:
    """Mean torque of a pull over a band, NaN unless it ran through nine tenths of it."""
    if torque is None or not inside.any() or np.isfinite(torque[row, inside]).mean() <= 0.9:
        return float("nan")
    return float(np.nanmean(torque[row, inside]))
