"""Where an engine is worked: idle, cruise or full load, told from whatever shows it."""

from __future__ import annotations

from collections.abc import Mapping
from enum import IntEnum

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray


class Region(IntEnum):
    """A part of the operating range that is judged by itself."""

    IDLE = 0
    CRUISE = 1
    LOAD = 2


TITLES = {Region.IDLE: "idle", Region.CRUISE: "cruise", Region.LOAD: "full load"}

USUAL_BAROMETER = 100.0
_IDLE_RPM = 1300.0
_STANDING = 5.0
_CLOSED = 3.0
_WIDE_OPEN = 0.75
_FULL_PRESSURE = 0.88
_FULL_FILLING = 0.75
_AIR_G_PER_L = 1.19
_LEAST_RPM = 1100.0
_HIGH = 0.999


def _known(signals: Mapping[str, FloatArray], quantity: str) -> FloatArray | None:
    values = signals.get(quantity)
    return values if values is not None and bool(np.isfinite(values).any()) else None


def opening(throttle: FloatArray) -> FloatArray:
    """Throttle opening 0 … 1, from %, degrees, a share or volts, told by the range it moves over; shape (n,)."""
    finite = throttle[np.isfinite(throttle)]
    if finite.size == 0:
        return np.full(throttle.shape, np.nan)
    low, high = float(np.quantile(finite, 0.005)), float(np.quantile(finite, _HIGH))
    if high <= 1.2 and high - low > 0.3:
        return throttle
    if high <= 6.0 and high - low > 1.5:
        return (throttle - low) / (high - low)
    return throttle / 100.0


def full_load(signals: Mapping[str, FloatArray], displacement: float | None = None) -> BoolArray:
    """Where the engine is near full load, by throttle, pressure, filling or the controller's load; shape (n,).

    Any of them is enough. The throttle counts wide open; pressure near the barometer or above it; airflow where it fills the
    engine by three quarters at its speed (1.19 g/L), if the displacement (L) is known.
    """
    speed = signals["engine_speed"]
    loaded = _by_pedal(signals) | _by_pressure(signals)
    loaded |= _by_filling(signals, displacement, loaded)
    return loaded & (speed > _LEAST_RPM)


def _by_pedal(signals: Mapping[str, FloatArray]) -> BoolArray:
    loaded = np.zeros(signals["engine_speed"].shape, dtype=np.bool_)
    for quantity in ("throttle_position", "pedal_position"):
        throttle = _known(signals, quantity)
        if throttle is not None:
            loaded |= opening(throttle) >= _WIDE_OPEN
    return loaded


def _by_pressure(signals: Mapping[str, FloatArray]) -> BoolArray:
    loaded = np.zeros(signals["engine_speed"].shape, dtype=np.bool_)
    pressure, ratio, boost = (_known(signals, one) for one in ("manifold_pressure", "pressure_ratio", "boost_pressure"))
    if pressure is not None:
        barometer = _known(signals, "barometric_pressure")
        ambient = np.nan_to_num(barometer, nan=USUAL_BAROMETER) if barometer is not None else USUAL_BAROMETER
        loaded |= pressure >= _FULL_PRESSURE * ambient
    if ratio is not None:
        loaded |= ratio >= _FULL_PRESSURE
    if boost is not None:
        loaded |= boost >= (_FULL_PRESSURE - 1.0) * USUAL_BAROMETER
    return loaded


def _by_filling(signals: Mapping[str, FloatArray], displacement: float | None, told: BoolArray) -> BoolArray:
    """By air and the controller's load; `told` is what throttle and pressure have told."""
    speed = signals["engine_speed"]
    loaded = np.zeros(speed.shape, dtype=np.bool_)
    airflow, cylinder_air, load = (_known(signals, one) for one in ("airflow", "cylinder_air", "engine_load"))
    if displacement and airflow is not None:
        with np.errstate(invalid="ignore", divide="ignore"):
            filling = airflow * 120.0 / (speed * displacement * _AIR_G_PER_L)
        loaded |= filling >= _FULL_FILLING
    elif airflow is not None and not told.any():
        # How much of it fills the engine is not known: the most of it seen at a speed of some height is near full load.
        per_turn = np.where(speed > 2000.0, airflow / np.maximum(speed, 1.0), np.nan)
        if np.isfinite(per_turn).sum() > 20:
            loaded |= per_turn >= 0.85 * float(np.nanquantile(per_turn, _HIGH))
    if cylinder_air is not None:
        loaded |= cylinder_air >= 0.9 * float(np.nanquantile(cylinder_air, _HIGH))
    if load is not None:
        loaded |= load >= (_FULL_FILLING if float(np.nanquantile(load, _HIGH)) <= 5.0 else 100.0 * _FULL_FILLING)
    return loaded


def idling(signals: Mapping[str, FloatArray]) -> BoolArray:
    """Where the engine idles: slow, the throttle closed and the car standing, as far as these were recorded; shape (n,)."""
    speed = signals["engine_speed"]
    slow = speed < _IDLE_RPM
    throttle, moving = _known(signals, "throttle_position"), _known(signals, "vehicle_speed")
    if throttle is not None:
        rest = float(np.nanquantile(throttle, 0.01))
        slow &= throttle < min(max(rest, 0.0), 20.0) + _CLOSED
    if moving is not None:
        slow &= moving < _STANDING
    return slow


def regions(signals: Mapping[str, FloatArray], displacement: float | None = None) -> IntArray:
    """The `Region` of each sample; shape (n,)."""
    found = np.full(signals["engine_speed"].shape, int(Region.CRUISE), dtype=np.int64)
    found[idling(signals)] = Region.IDLE
    found[full_load(signals, displacement)] = Region.LOAD
    return found
