"""Where the driver of a member takes it: engine speed and intake pressure as they are asked for, second by second."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

STEP_S = 0.02
IDLE_RPM, IDLE_KPA = 850.0, 34.0


@dataclass(frozen=True, eq=False)
class Road:
    """A drive; arrays of shape (n,), every 0.02 s.

    Attributes:
        speed: engine speed, rpm.
        pressure: intake pressure that the throttle leads to, kPa.
        throttle: %.
        moving: whether the car moves.
        cut: whether fuel is cut on the overrun.
        coolant: degC.
    """

    speed: FloatArray
    pressure: FloatArray
    throttle: FloatArray
    moving: BoolArray
    cut: BoolArray
    coolant: FloatArray


def _legs(
    rng: np.random.Generator, minutes: float, full: float, barometer: float
) -> list[tuple[float, float, float, int]]:
    """(seconds, speed, pressure, kind): 0 idle, 1 held or moved slowly, 2 pull, 3 overrun."""
    legs: list[tuple[float, float, float, int]] = [(25.0, IDLE_RPM, IDLE_KPA, 0)]
    total = 25.0
    while total < minutes * 60:
        chance = rng.random()
        if chance < 0.62:
            leg = (
                float(rng.uniform(5, 18)),
                float(rng.uniform(1200, 4200)),
                float(rng.uniform(30, 0.97 * barometer)),
                1,
            )
        elif chance < 0.72:
            leg = (
                float(rng.uniform(6, 10)),
                float(rng.uniform(4200, 6300)),
                float(rng.uniform(0.9 * barometer, full)),
                2,
            )
        elif chance < 0.86:
            leg = (float(rng.uniform(2, 6)), float(rng.uniform(1300, 2500)), 24.0, 3)
        else:
            leg = (float(rng.uniform(8, 20)), IDLE_RPM, IDLE_KPA, 0)
        legs.append(leg)
        total += leg[0]
    return legs


def drive(rng: np.random.Generator, minutes: float, full: float, barometer: float) -> Road:
    """A drive of so many minutes.

    Args:
        rng: of the driver.
        minutes: length.
        full: intake pressure at full load, kPa.
        barometer: kPa.
    """
    speed, pressure, kind = [], [], []
    last_speed, last_pressure = IDLE_RPM, IDLE_KPA
    for seconds, to_speed, to_pressure, what in _legs(rng, minutes, full, barometer):
        size = int(seconds / STEP_S)
        ramp = np.linspace(0, 1, size)
        if what == 1:
            quick = float(rng.uniform(0.15, 0.7))
            share = np.clip(ramp / quick, 0, 1)
            hunt = 25.0 * np.sin(2 * np.pi * ramp * seconds / rng.uniform(3, 9))
            speed.append(last_speed + (to_speed - last_speed) * share + hunt)
            pressure.append(last_pressure + (to_pressure - last_pressure) * np.clip(share * rng.uniform(1, 2), 0, 1))
        elif what == 2:
            low = float(rng.uniform(1600, 2800))
            speed.append(low + (to_speed - low) * ramp)
            pressure.append(to_pressure * np.clip(0.85 + 0.3 * ramp, 0, 1.0) * np.ones(size))
        else:
            share = np.clip(ramp * (4.0 if what == 0 else 1.0), 0, 1)
            speed.append(last_speed + (to_speed - last_speed) * share)
            pressure.append(np.full(size, to_pressure))
        last_speed, last_pressure = float(speed[-1][-1]), float(pressure[-1][-1])
        kind.append(np.full(size, what))
    kinds = np.concatenate(kind)
    asked, wanted = np.concatenate(speed), np.concatenate(pressure)
    throttle = np.where(
        kinds == 0,
        0.3,
        np.where(kinds == 3, 0.1, np.where(kinds == 2, 96.0, np.minimum(4 + 70 * (wanted / barometer) ** 2.2, 90.0))),
    )
    time = np.arange(asked.size) * STEP_S
    return Road(
        asked, wanted, throttle, kinds != 0, (kinds == 3) & (asked > 1500.0), np.minimum(62.0 + time / 12.0, 90.0)
    )  # fmt: skip
