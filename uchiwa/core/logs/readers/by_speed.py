"""Dyno files without time: rows that stand in the order of engine speed."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.naming import match_name

ROW_S = 0.05
"""Seconds that a row is taken to stand for: only the order matters."""
_LEAST_RPM = 1000.0
_RISING = 0.8


def rises_by_speed(names: Sequence[str], columns: Sequence[FloatArray]) -> bool:
    """Whether a table without time is a pull: its engine speed rises, run by run, in four of five rows.

    Args:
        names: of the columns.
        columns: their values, each of shape (n,).
    """
    for name, values in zip(names, columns, strict=False):
        found = match_name(name) if name else None
        if found is None or found.quantity != "engine_speed":
            continue
        speed = values[np.isfinite(values)]
        if speed.size < 5 or float(np.ptp(speed)) < _LEAST_RPM:
            return False
        return float((np.diff(speed) > 0).mean()) >= _RISING
    return False


def measures_torque(names: Sequence[str]) -> bool:
    """Whether one of a table's columns is torque or power."""
    found = [match_name(name) for name in names if name]
    return any(one is not None and one.quantity in ("wheel_torque", "wheel_power") for one in found)
