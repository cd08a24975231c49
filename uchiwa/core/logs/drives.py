"""Drives recognised in a log: cold start, warm idle, cruise, roll-on, pull, coast-down and gear shifts."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.signal import rate, smooth, spans
from uchiwa.core.words.sentence import N_


class DriveKind(StrEnum):
    """Manoeuvres that can be told from a log."""

    COLD_START = "cold_start"
    WARM_UP = "warm_up"
    IN_GEAR_WARM_UP = "in_gear_warm_up"
    WARM_IDLE = "warm_idle"
    CRUISE = "cruise"
    ROLL_ON = "roll_on"
    PULL = "pull"
    COAST_DOWN = "coast_down"
    GEAR_SHIFT = "gear_shift"


TITLES = {
    DriveKind.COLD_START: N_("cold start"),
    DriveKind.WARM_UP: N_("warm-up"),
    DriveKind.IN_GEAR_WARM_UP: N_("warm-up in gear"),
    DriveKind.WARM_IDLE: N_("warm idle"),
    DriveKind.CRUISE: N_("cruise"),
    DriveKind.ROLL_ON: N_("roll-on"),
    DriveKind.PULL: N_("full-load pull"),
    DriveKind.COAST_DOWN: N_("coast-down"),
    DriveKind.GEAR_SHIFT: N_("gear shift"),
}


@dataclass(frozen=True)
class Drive:
    """A recognised stretch of a log.

    Attributes:
        kind: the manoeuvre.
        start, end: seconds from the start of the log.
        note: what it was like, in a few words.
    """

    kind: DriveKind
    start: float
    end: float
    note: str = ""

    @property
    def seconds(self) -> float:
        """How long it lasted."""
        return self.end - self.start


_STANDING_RPM = 120.0
_RUNNING_RPM = 450.0
_COLD_START_BELOW = 45.0
_COLD_START_LASTS = 180.0
_WARM = 70.0
_IDLE_RPM = (450.0, 1250.0)
_CLOSED = 3.0
_WIDE_OPEN = 85.0
_SLOW_THROTTLE = 22.0
_MOST_SHIFTS = 2000


@dataclass(frozen=True, eq=False)
class _Road:
    time: FloatArray
    signals: Mapping[str, FloatArray]

    def get(self, quantity: str) -> FloatArray | None:
        return self.signals.get(quantity)

    @property
    def speed(self) -> FloatArray:
        return self.signals["engine_speed"]

    def at(self, quantity: str, moment: float) -> float:
        values = self.get(quantity)
        if values is None:
            return float("nan")
        return float(values[min(int(np.searchsorted(self.time, moment)), self.time.size - 1)])


def _moving(road: _Road) -> BoolArray:
    speed = road.get("vehicle_speed")
    if speed is not None:
        return speed > 8.0
    return road.speed > 1350.0


def _closed(road: _Road) -> BoolArray:
    throttle = road.get("throttle_position")
    if throttle is None:
        return road.speed < _IDLE_RPM[1]
    rest = float(np.nanquantile(throttle, 0.01)) if np.isfinite(throttle).any() else 0.0
    return throttle < min(rest, 15.0) + _CLOSED


def _cold_start(road: _Road) -> list[Drive]:
    coolant = road.get("coolant_temperature")
    if coolant is None or not (road.speed[:3] < _STANDING_RPM).all():
        return []
    running = np.flatnonzero(road.speed > _RUNNING_RPM)
    if running.size == 0 or not coolant[0] < _COLD_START_BELOW:
        return []
    left = np.flatnonzero(_moving(road) & ~_closed(road) & (road.time > road.time[running[0]]))
    end = road.time[left[0]] if left.size else road.time[-1]
    end = min(float(end), float(road.time[running[0]]) + _COLD_START_LASTS)
    return [Drive(DriveKind.COLD_START, float(road.time[0]), end, f"from {coolant[0]:.0f} °C")]


_WARMS_BY, _MOSTLY = 15.0, 0.5


def _warm_up(road: _Road) -> list[Drive]:
    """From before cranking a cold engine, feet off and standing, for as long as it goes on; in gear if it mostly was."""
    coolant = road.get("coolant_temperature")
    if coolant is None or not (road.speed[:3] < _STANDING_RPM).all() or not coolant[0] < _COLD_START_BELOW:
        return []
    running = np.flatnonzero(road.speed > _RUNNING_RPM)
    if running.size == 0:
        return []
    left = np.flatnonzero(
        (_moving(road) if road.get("vehicle_speed") is not None else ~_closed(road))
        & (road.time > road.time[running[0]] + 5.0)
    )
    last = int(left[0]) if left.size else road.time.size - 1
    warmest = float(np.nanmax(coolant[: last + 1]))
    if warmest < float(coolant[0]) + _WARMS_BY:
        return []
    geared = road.get("in_gear")
    mostly = geared is not None and float(np.nanmean(np.abs(geared[running[0] : last + 1]) > 0.5)) > _MOSTLY
    kind = DriveKind.IN_GEAR_WARM_UP if mostly else DriveKind.WARM_UP
    return [Drive(kind, float(road.time[0]), float(road.time[last]), f"{coolant[0]:.0f} to {warmest:.0f} °C")]


def _warm_idle(road: _Road) -> list[Drive]:
    coolant = road.get("coolant_temperature")
    idle = (road.speed > _IDLE_RPM[0]) & (road.speed < _IDLE_RPM[1]) & _closed(road) & ~_moving(road)
    if coolant is not None:
        idle &= coolant >= _WARM
    return [
        Drive(
            DriveKind.WARM_IDLE,
            first,
            last,
            f"about {np.nanmedian(road.speed[(road.time >= first) & (road.time <= last)]):.0f} rpm",
        )
        for first, last in spans(road.time, idle, shortest=5.0, bridge=1.5)
    ]


def _pulls(road: _Road) -> list[Drive]:
    throttle = road.get("throttle_position")
    if throttle is None:
        return []
    found: list[Drive] = []
    for first, last in spans(road.time, throttle >= _WIDE_OPEN, shortest=2.0, bridge=0.15):
        low, high = road.at("engine_speed", first), road.at("engine_speed", last)
        if high - low >= 1200.0:
            found.append(Drive(DriveKind.PULL, first, last, f"{low:.0f} to {high:.0f} rpm"))
    return found


def _roll_ons(road: _Road) -> list[Drive]:
    throttle = road.get("throttle_position")
    if throttle is None:
        return []
    pace = rate(road.time, smooth(road.time, throttle, 1.0), 1.0)
    opening = (pace > 0.8) & (pace < _SLOW_THROTTLE) & _moving(road)
    found: list[Drive] = []
    for first, last in spans(road.time, opening, shortest=3.0, bridge=0.6):
        low, high = road.at("throttle_position", first), road.at("throttle_position", last)
        if high - low >= 35.0 and high >= 60.0:
            found.append(Drive(DriveKind.ROLL_ON, first, last, f"{low:.0f} to {high:.0f} % throttle"))
    return found


def _coast_downs(road: _Road) -> list[Drive]:
    falling = rate(road.time, smooth(road.time, road.speed, 0.6), 0.8) < -20.0
    coasting = _closed(road) & _moving(road) & (road.speed > 1250.0) & falling
    return [
        Drive(DriveKind.COAST_DOWN, first, last, f"from {road.at('engine_speed', first):.0f} rpm")
        for first, last in spans(road.time, coasting, shortest=2.0, bridge=0.4)
    ]


def _cruise(road: _Road) -> list[Drive]:
    throttle = road.get("throttle_position")
    going = _moving(road) & (road.speed > 1000.0)
    if throttle is not None:
        going &= throttle < 55.0
    return [Drive(DriveKind.CRUISE, first, last) for first, last in spans(road.time, going, shortest=30.0, bridge=20.0)]


def _shifts(road: _Road) -> list[Drive]:
    gear = road.get("gear")
    if gear is not None and np.isfinite(gear).any():
        known = np.where(np.isfinite(gear), gear, -9.0)
        at = np.flatnonzero((np.diff(known) != 0) & (known[1:] > 0) & (known[:-1] > 0)) + 1
        return [
            Drive(
                DriveKind.GEAR_SHIFT,
                float(road.time[i]),
                float(min(road.time[i] + 0.7, road.time[-1])),
                f"{known[i - 1]:.0f} to {known[i]:.0f}",
            )
            for i in at[:_MOST_SHIFTS]
        ]
    speed = road.get("vehicle_speed")
    if speed is None:
        return []
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.where(speed > 12.0, road.speed / speed, np.nan)
        pace = np.abs(rate(road.time, np.log(np.where(ratio > 1.0, ratio, np.nan)), 0.5))
    return [
        Drive(DriveKind.GEAR_SHIFT, first, last)
        for first, last in spans(road.time, pace > 0.35, shortest=0.1, bridge=0.6)
        if last - first < 2.5
    ]


def recognise_drives(time: FloatArray, signals: Mapping[str, FloatArray]) -> tuple[Drive, ...]:
    """The drives of a log, by start; they may overlap (a pull lies within a cruise).

    Args:
        time: seconds, rising; shape (n,).
        signals: by quantity id in canonical units; `engine_speed` is needed.
    """
    if time.size < 5 or not np.isfinite(signals["engine_speed"]).any():
        return ()
    road = _Road(time, signals)
    found: list[Drive] = []
    for one in (_cold_start, _warm_up, _warm_idle, _cruise, _roll_ons, _pulls, _coast_downs, _shifts):
        found += one(road)
    return tuple(sorted(found, key=lambda drive: (drive.start, drive.kind)))
