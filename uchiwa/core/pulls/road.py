"""Power and torque of a road log, by what the car's own motion takes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from uchiwa.core.airflow import GAS_CONSTANT, ZERO_CELSIUS
from uchiwa.core.log import FloatArray

GRAVITY = 9.80665
USUAL_DENSITY = 1.2


@dataclass(frozen=True)
class RoadLoad:
    """What a car's motion takes.

    Attributes:
        mass: with driver and fuel, kg.
        drag_area: CdA, m².
        rolling: coefficient of rolling resistance.
        slope: of the road, rise over run.
        tyre_radius: rolling, m; None if not known.
        ratios: overall, engine to wheel, by gear; empty if not known.
    """

    mass: float
    drag_area: float = 0.65
    rolling: float = 0.013
    slope: float = 0.0
    tyre_radius: float | None = None
    ratios: tuple[float, ...] = ()


def air_density(pressure: float, temperature: float) -> float:
    """kg/m³ of air at a pressure in kPa and a temperature in degC: p / (R·T)."""
    return pressure * 1000.0 / (GAS_CONSTANT * (temperature + ZERO_CELSIUS))


def derivative(time: FloatArray, values: FloatArray, window: float) -> FloatArray:
    """Change per second of a signal: the slope of the least-squares parabola over `window` seconds around each sample.

    Args:
        time: s, rising; shape (n,).
        values: shape (n,).
        window: s.
    """
    slope = np.full(time.shape, np.nan)
    first = np.searchsorted(time, time - window / 2 - 1e-9)
    last = np.searchsorted(time, time + window / 2 + 1e-9)
    for at in range(time.size):
        here = slice(first[at], last[at])
        t, v = time[here] - time[at], values[here]
        use = np.isfinite(v)
        count = int(use.sum())
        if count < 3:
            continue
        t, v = t[use], v[use]
        one_sided = t.min() > -window / 4 or t.max() < window / 4
        slope[at] = np.polynomial.polynomial.polyfit(t, v, 1 if one_sided or count < 5 else 2)[1]
    return slope


def road_power(
    time: FloatArray, velocity: FloatArray, load: RoadLoad, density: float = USUAL_DENSITY, window: float = 0.5
) -> FloatArray:
    """Power at the road in kW: m·a·v + ½·ρ·CdA·v³ + Crr·m·g·v + m·g·slope·v.

    Args:
        time: s, rising; shape (n,).
        velocity: of the car, m/s.
        load: what its motion takes.
        density: of the air, kg/m³.
        window: over which the acceleration is taken, s.
    """
    acceleration = derivative(time, velocity, window)
    steep = load.slope / math.hypot(1.0, load.slope)
    force = (
        load.mass * acceleration
        + 0.5 * density * load.drag_area * velocity**2
        + load.rolling * load.mass * GRAVITY
        + load.mass * GRAVITY * steep
    )
    power: FloatArray = force * velocity / 1000.0
    return power
