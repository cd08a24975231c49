"""Drives: what the stand-in driver is asked to do, as a list of legs made from a seed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput


@dataclass(frozen=True)
class Leg:
    """A stretch of driving.

    Attributes:
        seconds: how long it lasts at most.
        engine_speed: rpm to hold in `gear`, by throttle; None: hold the throttle instead.
        gear: 0 is neutral.
        throttle: % reached by the end of the leg when the throttle is held, starting from where it is.
        slope: of the road, rise over run.
        throttle_rate: quickest movement of the throttle, %/s.
        until_speed: ends the leg when the engine reaches this speed, rpm.
        in_gear: whether an automatic gearbox is held in gear, on the brake, while standing.
    """

    seconds: float
    gear: int
    engine_speed: float | None = None
    throttle: float | None = None
    slope: float = 0.0
    throttle_rate: float = 12.0
    until_speed: float | None = None
    in_gear: bool = False


@dataclass(frozen=True)
class Drive:
    """A named drive: its legs and the state in which the car starts; `cranked` from a cold, standing engine.

    `ambient` is the range of the air outside, degC.
    """

    name: str
    legs: tuple[Leg, ...]
    coolant: float = 88.0
    gear: int = 0
    engine_speed: float = 850.0
    cranked: bool = False
    ambient: tuple[float, float] = (12.0, 24.0)


def _idle(seconds: float) -> Leg:
    return Leg(seconds, 0, throttle=0.0)


def cold_start(rng: np.random.Generator) -> Drive:
    """From before cranking, cold, and a minute of idle after it."""
    return Drive("cold_start", (_idle(62.0 + float(rng.uniform(0, 10))),), cranked=True, engine_speed=0.0)


_MORNING = (1.0, 11.0)


def cold_morning(rng: np.random.Generator) -> Drive:
    """From before cranking on a cold morning until the engine is warm, in neutral, feet off."""
    seconds = 660.0 + float(rng.uniform(0, 40))
    return Drive("cold_morning", (_idle(seconds),), cranked=True, engine_speed=0.0, ambient=_MORNING)


def warming_in_gear(rng: np.random.Generator) -> Drive:
    """The same, held on the brake in gear but for the first half minute and a while in the middle."""
    legs = [_idle(30.0)]
    for _ in range(3):
        legs.append(Leg(170.0 + float(rng.uniform(0, 20)), 0, throttle=0.0, in_gear=True))
        legs.append(_idle(35.0))
    return Drive("in_gear_warm_up", tuple(legs), cranked=True, engine_speed=0.0, ambient=_MORNING)


def warm_idle(rng: np.random.Generator) -> Drive:
    """A minute and a half of idle, warm."""
    return Drive("warm_idle", (_idle(90.0 + float(rng.uniform(0, 10))),))


def steady_cruise(rng: np.random.Generator, minutes: float = 16.0) -> Drive:
    """Many speeds and slopes, each held for a while, throttle moved slowly and below half."""
    legs: list[Leg] = [_idle(20.0)]
    total = 20.0
    gear = 3
    while total < minutes * 60:
        gear = int(np.clip(gear + rng.integers(-1, 2), 2, 5))
        speed = float(rng.uniform(1250, 4000 if gear < 5 else 3400))
        steep = 0.075 if gear < 4 else 0.05
        seconds = float(rng.uniform(14, 30))
        legs.append(Leg(seconds, gear, speed, slope=float(rng.uniform(-0.03, steep)), throttle_rate=6.0))
        total += seconds
        if rng.random() < 0.06:
            legs.append(_idle(12.0))
            total += 12.0
    return Drive("steady_cruise", tuple(legs))


def roll_on(rng: np.random.Generator) -> Drive:
    """Slow openings of the throttle from low speed in high gears."""
    legs: list[Leg] = [_idle(8.0)]
    for gear in (3, 4, 5, 4):
        low = float(rng.uniform(1450, 1750))
        legs.append(Leg(14.0, gear, low, throttle_rate=10.0))
        legs.append(Leg(26.0, gear, throttle=100.0, slope=0.045, throttle_rate=5.0, until_speed=6200.0))
        legs.append(Leg(6.0, gear, throttle=0.0, throttle_rate=80.0))
    return Drive("roll_on", tuple(legs))


def full_load_pull(rng: np.random.Generator) -> Drive:
    """One long pull at full throttle in fourth gear, to the limiter."""
    low = float(rng.uniform(1650, 1850))
    return Drive(
        "full_load_pull",
        (
            _idle(6.0),
            Leg(14.0, 4, low, throttle_rate=10.0),
            Leg(40.0, 4, throttle=100.0, slope=0.02, throttle_rate=250.0, until_speed=6450.0),
            Leg(8.0, 4, throttle=0.0, throttle_rate=200.0),
        ),
    )


def mixed_road(rng: np.random.Generator, minutes: float = 20.0) -> Drive:
    """Town, hills, overtaking and coasting, from a half-warm start."""
    legs: list[Leg] = [_idle(25.0)]
    total = 25.0
    gear = 2
    while total < minutes * 60:
        kind = rng.random()
        slope = float(np.clip(rng.normal(0.012, 0.03), -0.05, 0.08))
        if kind < 0.50:
            gear = int(np.clip(gear + rng.integers(-1, 2), 2, 5))
            speed = float(rng.uniform(1300, 4600 if gear < 4 else 3600))
            leg = [Leg(float(rng.uniform(8, 22)), gear, speed, slope=slope, throttle_rate=15.0)]
        elif kind < 0.68:
            throttle = float(rng.uniform(25, 70))
            leg = [
                Leg(
                    float(rng.uniform(7, 14)),
                    gear,
                    throttle=throttle,
                    slope=slope + 0.025,
                    throttle_rate=9.0,
                    until_speed=float(rng.uniform(4200, 6200)),
                ),
            ]
        elif kind < 0.76:
            leg = [
                Leg(
                    12.0,
                    gear,
                    throttle=100.0,
                    slope=slope,
                    throttle_rate=60.0,
                    until_speed=float(rng.uniform(5200, 6400)),
                ),
                Leg(3.0, gear, throttle=0.0, throttle_rate=120.0),
            ]
        elif kind < 0.88:
            leg = [Leg(float(rng.uniform(3, 7)), gear, throttle=0.0, slope=slope, throttle_rate=60.0)]
        else:
            leg = [_idle(float(rng.uniform(10, 20)))]
            gear = 2
        legs += leg
        total += sum(one.seconds for one in leg)
    return Drive("mixed_road", tuple(legs), coolant=62.0)


DRIVES: dict[str, Callable[[np.random.Generator], Drive]] = {
    "cold_start": cold_start,
    "cold_morning": cold_morning,
    "in_gear_warm_up": warming_in_gear,
    "warm_idle": warm_idle,
    "steady_cruise": steady_cruise,
    "roll_on": roll_on,
    "full_load_pull": full_load_pull,
    "mixed_road": mixed_road,
}


def make_drive(name: str, rng: np.random.Generator) -> Drive:
    """The drive of this name.

    Raises:
        BadInput: there is none; the message lists what there is.
    """
    if name not in DRIVES:
        raise BadInput(f"there is no drive “{name}”", advice=f"the drives are {', '.join(DRIVES)}")
    return DRIVES[name](rng)
