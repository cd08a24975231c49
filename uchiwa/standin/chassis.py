"""The car around the engine: gears, mass, drag, road."""

from __future__ import annotations

import math
from dataclasses import dataclass

GRAVITY = 9.81
DRIVELINE = 0.92


@dataclass(frozen=True)
class Chassis:
    """A car's longitudinal properties in SI units; `gears` are overall ratios engine to wheel."""

    mass: float = 1240.0
    tyre_radius: float = 0.305
    drag_area: float = 0.66
    rolling: float = 0.013
    gears: tuple[float, ...] = (13.6, 8.1, 5.5, 4.25, 3.5)
    engine_inertia: float = 0.25

    def engine_speed(self, gear: int, speed: float) -> float:
        """Engine speed in rpm at a road speed in m/s."""
        return speed / self.tyre_radius * self.gears[gear - 1] * 60.0 / (2 * math.pi)

    def acceleration(
        self, gear: int, torque: float, speed: float, slope: float, brake: float, density: float = 1.2
    ) -> float:
        """m/s² from engine torque (Nm), road speed (m/s), slope (rise over run), braking (m/s²) and air (kg/m³)."""
        drive = torque * self.gears[gear - 1] * DRIVELINE / self.tyre_radius if gear else 0.0
        drag = 0.5 * density * self.drag_area * speed * speed
        rolling = self.rolling * self.mass * GRAVITY if speed > 0.1 else 0.0
        inertia = 1.0 + (
            self.engine_inertia * (self.gears[gear - 1] ** 2) / self.tyre_radius**2 / self.mass if gear else 0.0
        )
        return (drive - drag - rolling - self.mass * GRAVITY * slope) / (self.mass * inertia) - brake
