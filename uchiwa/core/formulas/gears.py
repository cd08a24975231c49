"""The gear, told from the ratio of engine speed to road speed."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray

_LEAST_ROAD_SPEED = 8.0
_LEAST_ENGINE_SPEED = 900.0
_BIN = 0.015
_APART = 0.11
_LEAST_SHARE = 0.01
_NEAR = 0.05


def gear_from(engine_speed: FloatArray, vehicle_speed: FloatArray) -> FloatArray:
    """Gear at each sample, 1 being the shortest that the log shows; NaN while the clutch slips or the car creeps.

    The ratio of the two speeds heaps up at each gear's own value. Heaps are local maxima of the histogram of the
    ratio's logarithm that hold at least 1 % of the moving samples and are 11 % apart; a sample belongs to a heap if
    its ratio is within 5 % of it.

    Args:
        engine_speed: rpm; shape (n,).
        vehicle_speed: km/h; shape (n,).
    """
    gear = np.full(engine_speed.shape, np.nan)
    moving = (vehicle_speed > _LEAST_ROAD_SPEED) & (engine_speed > _LEAST_ENGINE_SPEED)
    if int(moving.sum()) < 10:
        return gear
    ratio = np.log(engine_speed[moving] / vehicle_speed[moving])
    first = np.floor(ratio.min() / _BIN) - 1
    place = np.floor(ratio / _BIN - first).astype(np.int64)
    counts = np.bincount(place, minlength=int(place.max()) + 2).astype(np.float64)
    heap = np.convolve(counts, np.ones(3), mode="same")
    left: list[float] = []
    for number in np.argsort(-heap):
        if heap[number] < _LEAST_SHARE * ratio.size:
            break
        middle = (first + number + 0.5) * _BIN
        if all(abs(middle - other) > _APART for other in left):
            left.append(float(middle))
    if not left:
        return gear
    centres = np.array(sorted(left, reverse=True))
    near = np.abs(ratio[:, None] - centres[None, :])
    best = near.argmin(axis=1)
    gear[moving] = np.where(near[np.arange(ratio.size), best] < _NEAR, best + 1.0, np.nan)
    return gear
