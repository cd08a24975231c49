"""Power and torque of a road log, by what the car's own motion takes."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from uchiwa.core.airflow.speed_density import GAS_CONSTANT, ZERO_CELSIUS
from uchiwa.core.logs.log import FloatArray

GRAVITY = 9.80665
USUAL_DENSITY = 1.2
USUAL_RADIUS = 0.31
_WHEELS_SHARE, _ENGINE_SHARE = 0.04, 0.0025
_RADIANS = 2.0 * math.pi / 60.0


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
        engine_inertia: of what turns with the engine, kg·m²; None if not known.
        wheel_inertia: of all wheels and what turns with them, kg·m²; None if not known.
    """

    mass: float
    drag_area: float = 0.65
    rolling: float = 0.013
    slope: float = 0.0
    tyre_radius: float | None = None
    ratios: tuple[float, ...] = ()
    engine_inertia: float | None = None
    wheel_inertia: float | None = None

    def turning_mass(self, turns: float) -> float:
        """Mass, kg, that what turns in the car is worth when it speeds up: J_engine·(ω/v)² + J_wheels/r².

        Where an inertia is not known, its share of the mass is taken from the usual mass factor of cars,
        1.04 + 0.0025·(overall ratio)² (T. D. Gillespie, *Fundamentals of Vehicle Dynamics*, equation 2-9c): 0.04 for the
        wheels, the rest for the engine.

        Args:
            turns: of the engine for each metre of road, rad/m.
        """
        radius = self.tyre_radius or USUAL_RADIUS
        wheels = self.mass * _WHEELS_SHARE if self.wheel_inertia is None else self.wheel_inertia / radius**2
        if self.engine_inertia is not None:
            return wheels + self.engine_inertia * turns**2
        return wheels + self.mass * _ENGINE_SHARE * (turns * radius) ** 2


def turns_per_metre(engine_speed: FloatArray, road_speed: FloatArray) -> float:
    """rad/m of an engine that turns at so many rpm while the car goes at so many m/s, the middle of all; NaN of none."""
    with np.errstate(divide="ignore", invalid="ignore"):
        turns = engine_speed * _RADIANS / road_speed
    return float(np.median(turns[np.isfinite(turns)])) if np.isfinite(turns).any() else float("nan")


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


_OVER_S = 0.5
"""Over which the acceleration is taken."""


def road_power(
    time: FloatArray,
    velocity: FloatArray,
    load: RoadLoad,
    density: float = USUAL_DENSITY,
    turning: float = 0.0,
) -> FloatArray:
    """Power at the road in kW, and with it what speeds up the turning parts:

    (m + m_turning)·a·v + ½·ρ·CdA·v³ + Crr·m·g·v + m·g·slope·v.

    Args:
        time: s, rising; shape (n,).
        velocity: of the car, m/s.
        load: what its motion takes.
        turning: mass that the turning parts are worth, kg; see `RoadLoad.turning_mass`.
        density: of the air, kg/m³.
    """
    acceleration = derivative(time, velocity, _OVER_S)
    steep = load.slope / math.hypot(1.0, load.slope)
    force = (
        (load.mass + turning) * acceleration
        + 0.5 * density * load.drag_area * velocity**2
        + load.rolling * load.mass * GRAVITY
        + load.mass * GRAVITY * steep
    )
    power: FloatArray = force * velocity / 1000.0
    return power
