"""How well readings fit a quantity under a unit, given what else the log shows: the evidence of a joint reading.

Scores are natural logarithms of likelihood ratios, roughly: 0 says nothing, +1 is as usual, −2 odd, −6 cannot be.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.recognition.figures import Figures

NEVER = -14.0
"""Score of what cannot be."""
ODD = -6.5
"""Score from which a reading is doubted even if nothing else fits better."""
_WARMS_UP_S = 300.0
_SENSOR_WARMS_S = 120.0
_EXACTLY = 0.002
_HELD, _NOT_HELD = 0.015, 0.03
"""How far a closed loop's mean λ lies from 1 at most, and from where it is no closed loop's."""


@dataclass(frozen=True, eq=False)
class Drive:
    """What a log shows of its drive, as far as it does not depend on any unit in question.

    Attributes:
        seconds: with the engine running.
        idle: whether each sample lies at idle, by speed alone; shape (n,).
        loaded: whether the throttle stands wide open; None if it was not recorded.
        off: whether the engine stands; shape (n,).
        speed: rpm; shape (n,).
        displacement: L, or None.
        closed: whether the fuel loop is closed and the throttle not wide open; None if the loop was not recorded.
    """

    seconds: float
    idle: BoolArray
    loaded: BoolArray | None
    off: BoolArray
    speed: FloatArray
    displacement: float | None
    closed: BoolArray | None = None


def _within(value: float, low: float, high: float, weight: float) -> float:
    return weight if low <= value <= high else 0.0


def coolant(readings: Figures, drive: Drive) -> float:
    """Coolant, degC: an engine that has run for five minutes is warm, and none runs above 128 °C."""
    span = readings.most
    if span is None:
        return 0.0
    low, high = span
    if low < -45 or high > 128:
        return NEVER
    score = _within(high, 72, 112, 1.5) - 1.0 * (high > 115)
    if drive.seconds > _WARMS_UP_S and high < 55:
        score -= 4.0
    if low < -25:
        score -= 1.0
    return score


def intake_air(readings: Figures, _drive: Drive) -> float:
    """Intake air, degC: mostly between a cold morning and a warm engine bay."""
    span = readings.most
    if span is None:
        return 0.0
    low, high = span
    if low < -45 or high > 125:
        return NEVER
    return _within(low, -15, 45, 0.5) + _within(high, 0, 68, 0.5) - 1.0 * (high > 85) - 0.5 * (low < -20)


def intake_pressure(readings: Figures, drive: Drive, barometer: float) -> float:
    """Intake pressure, kPa absolute: 20 to 65 at idle, near the barometer or above it with the throttle wide open."""
    span = readings.middle
    if span is None:
        return 0.0
    low, high = span
    running = readings.running(drive.off)
    if running is None:
        return 0.0
    if low < 6 or high > 480 or running[0] < 24:
        return NEVER
    score = -2.0 * (low < 13)
    idle, opened = readings.median_where(drive.idle), readings.median_where(drive.loaded)
    if np.isfinite(idle):
        score += _within(idle, 22, 62, 1.5) - 5.0 * (idle > 80) - 2.0 * (62 < idle <= 80) - 2.0 * (idle < 16)
    else:
        score += _within(low, 15, 75, 0.5)
    if np.isfinite(opened):
        score += _within(opened, 0.85 * barometer, 3.6 * barometer, 1.5) - 5.0 * (opened < 0.75 * barometer)
    elif running[1] < 40:
        score -= 3.0
    standing = readings.median_where(drive.off)
    if np.isfinite(standing):
        score += 2.0 if abs(standing / barometer - 1.0) < 0.12 else -4.0
    return score


def boost(readings: Figures, drive: Drive) -> float:
    """Boost, kPa above the air outside: a vacuum, or nothing, at idle."""
    span = readings.middle
    if span is None:
        return 0.0
    if span[0] < -105 or span[1] > 400:
        return NEVER
    idle = readings.median_where(drive.idle)
    if not np.isfinite(idle):
        return 0.0
    return 1.0 if idle <= 1.0 else -5.0


def barometer(readings: Figures) -> float:
    """Barometric pressure, kPa."""
    span = readings.middle
    if span is None:
        return 0.0
    if span[0] < 55 or span[1] > 110:
        return NEVER
    return _within(span[0], 88, 104, 1.5) - 1.0 * (span[0] < 78)


def mixture(readings: Figures, drive: Drive) -> float:
    """λ, measured or wanted: about 1 for most of any drive, and no leaner at full load; in closed loop it is held at 1."""
    span = readings.middle
    if span is None:
        return 0.0
    if span[1] < 0.55 or span[0] > 2.6 or span[0] < 0.3 or span[1] > 12:
        return NEVER
    # A sensor that is cold, or in free air, stands at its end: that says nothing of its unit.
    finite = readings.finite
    moving = finite[finite < 0.995 * span[1]]
    standing = moving.size < 0.2 * finite.size
    if standing and drive.seconds < _SENSOR_WARMS_S:
        return 0.0
    centre = readings.median if standing else float(np.median(moving))
    score = _within(centre, 0.78, 1.12, 2.0) - 3.0 * (not 0.72 <= centre <= 1.25) - 4.0 * (centre > 1.35)
    loaded = readings.median_where(drive.loaded)
    if np.isfinite(loaded):
        score += _within(loaded, 0.7, 0.98, 1.0) - 3.0 * (loaded > 1.04)
    held = readings.median_where(drive.closed)
    if np.isfinite(held):
        off = abs(held - 1.0)
        score += _within(off, 0.0, _HELD, 2.0) - 2.0 * (off > _NOT_HELD)
    return score - 1.0 * (span[0] < 0.5)


def target(readings: Figures) -> float:
    """λ target: for much of a drive 1 to a thousandth or two, which under another ratio it would not be."""
    return 2.0 * (abs(readings.median - 1.0) <= _EXACTLY)


def trims(every: list[Figures], *, short: bool) -> float:
    """All trims of a log together, %: they move by some percent, but seldom by tens.

    Args:
        every: each trim's readings.
        short: whether a short-term trim is among them.
    """
    spans = [one.middle for one in every if one.middle is not None]
    if not spans:
        return 0.0
    low, high = min(span[0] for span in spans), max(span[1] for span in spans)
    if low < -60 or high > 60:
        return NEVER
    widest = max(one.spread for one in every if one.middle is not None)
    reach = max(abs(low), abs(high))
    if reach == 0:
        return 0.0
    score = _within(widest, 0.35, 14, 1.0) - 3.0 * (reach < 0.4) - 1.0 * (reach > 30)
    # A loop at work passes through nought; trims that all stay near one and the same number off it do not.
    if all(span[0] > 0.5 and span[1] < 1.6 for span in spans):
        score -= 8.0 if short and widest > 1e-4 else 2.0
    return score


def share(readings: Figures, drive: Drive) -> float:
    """A percentage such as throttle: driven, it reaches more than a few percent."""
    span = readings.middle
    if span is None:
        return 0.0
    if span[0] < -6 or span[1] > 108:
        return NEVER
    driven = float(np.nanquantile(drive.speed, 0.98)) > 1800 if drive.speed.size else False
    top = readings.highest
    return _within(top, 8, 104, 1.0) - 4.0 * (driven and top < 2.5)


def ethanol(readings: Figures) -> float:
    """Ethanol content, %: fuels hold none, five to ten, or a good deal."""
    span = readings.middle
    if span is None:
        return 0.0
    if span[0] < -1 or span[1] > 101:
        return NEVER
    return -2.5 * (0.02 < span[1] <= 1.05) + _within(span[1], 3, 100, 0.5)


def airflow(readings: Figures, drive: Drive, pressure: FloatArray | None) -> float:
    """Airflow, g/s: what an engine takes at its speed and intake pressure, by speed density.

    Of an engine whose displacement is not known, what it would have to be: a car's lies between 0.9 and 6.5 L.
    """
    if pressure is None:
        return 0.0
    with np.errstate(invalid="ignore", divide="ignore"):
        filled = readings.values / (drive.speed / 120.0 * pressure / 100.0 * 1.16)
    use = (drive.speed > 900) & np.isfinite(filled)
    if use.sum() < 20:
        return 0.0
    litres = float(np.median(filled[use]))
    if drive.displacement is None:
        return 1.0 if 0.8 <= litres <= 5.5 else -0.7 if 0.5 <= litres <= 8.0 else -5.0
    filling = litres / drive.displacement
    return 2.0 if 0.45 <= filling <= 1.15 else -1.0 if 0.3 <= filling <= 1.45 else -6.0
