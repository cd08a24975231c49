"""Injector duty to be expected with other tables."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from uchiwa.core.airflow.injectors import dead_time_at
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.review.reviewed import Duty
from uchiwa.core.tables.table import Calibration, Table

_MS_PER_DUTY = 1200.0


def expected_duty(
    signals: Mapping[str, FloatArray], before: Calibration, after: Calibration, car: CarFile | None = None
) -> Duty | None:
    """The highest injector duty of a log, and what it would be with another calibration.

    duty = pulse · rpm / 1200. The dead time is the car file's at the battery's voltage, else the calibration's. Of the pulse, what exceeds the dead time goes with modelled air over λ target; fuel trims,
    which the correction is to make needless, are taken out: pulse′ = dead + (pulse − dead) / ((1 + s)(1 + l)) ·
    (air′ / air) · (λt / λt′).

    Returns:
        None if the log has neither duty nor pulse, or no engine speed.
    """
    speed, duty, pulse = (signals.get(one) for one in ("engine_speed", "injector_duty", "injector_pulse"))
    if speed is None or (duty is None and pulse is None):
        return None
    running = np.where(speed > 300.0, speed, np.nan)
    if pulse is None and duty is not None:
        pulse = duty * _MS_PER_DUTY / running
    if pulse is None:
        return None
    dead = _dead_time(signals, before, car)
    trims = np.ones(speed.shape)
    for one in ("short_term_trim", "long_term_trim"):
        if one in signals:
            trims = trims * (1.0 + np.nan_to_num(signals[one]) / 100.0)
    ratio = _ratio(signals, before, after, ("volumetric_efficiency", "maf_curve"))
    ratio = ratio / _ratio(signals, before, after, ("lambda_target",))
    expected = (dead + np.maximum(pulse - dead, 0.0) / trims * ratio) * running / _MS_PER_DUTY
    now = pulse * running / _MS_PER_DUTY
    if not np.isfinite(expected).any():
        return None
    at = int(np.nanargmax(expected))
    return Duty(float(np.nanmax(now)), float(expected[at]), float(speed[at]))


def _dead_time(signals: Mapping[str, FloatArray], before: Calibration, car: CarFile | None) -> FloatArray | float:
    volts = signals.get("battery_voltage")
    if car is not None and car.dead_times and volts is not None:
        return dead_time_at(car.dead_times, volts)
    return before.constant("injector_dead_time") or (car.injector_dead_time if car is not None else None) or 0.0


def _ratio(
    signals: Mapping[str, FloatArray], before: Calibration, after: Calibration, roles: tuple[str, ...]
) -> FloatArray:
    """After over before at each sample, of the first table of the roles whose axes the log has; 1 where it cannot tell."""
    whole = np.ones(signals["engine_speed"].shape)
    for role in roles:
        for old, new in zip(before.by_role(role)[:1], after.by_role(role)[:1], strict=False):
            try:
                a, b = _lookup(old, signals), _lookup(new, signals)
            except BadInput:
                continue
            with np.errstate(divide="ignore", invalid="ignore"):
                found = b / a
            return np.where(np.isfinite(found), found, 1.0)
    return whole


def _lookup(table: Table, signals: Mapping[str, FloatArray]) -> FloatArray:
    x = axis_values(table.x, dict(signals), "log")
    return table.lookup(x, axis_values(table.y, dict(signals), "log") if table.y is not None else None)
