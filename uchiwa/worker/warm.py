"""A first proposal of a drive that never was: it loads every compiled loop and all units, so that what is forked has them."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Axis, Calibration, Constant, Table, frozen

_SAMPLES, _RATE = 1200, 10.0


def warm_up() -> None:
    """Convert once, and propose once with every estimator."""
    convert(np.ones(2), "psi", "kPa")  # to make all units takes longer than to read a short log
    for estimator in ("surface", "weighted", "nearest"):
        fuel_proposal([_drive()], _calibration(), "ve", Policy.read({"estimator": estimator}))


def _calibration() -> Calibration:
    x = Axis("engine_speed", "rpm", frozen([1000, 2000, 3000, 4000]))
    y = Axis("manifold_pressure", "kPa", frozen([30, 60, 90]))
    table = Table("ve", "VE", "volumetric_efficiency", "%", x, y, frozen(np.full((3, 4), 60.0)))
    constants = (Constant("displacement", "displacement", 2.0, "L"), Constant("cylinders", "cylinders", 4.0, "1"))
    return Calibration("warm", "Warm", constants, (table,))


def _drive() -> Log:
    time = np.arange(_SAMPLES) / _RATE
    slow = np.sin(time / 9.0)
    readings = {
        "engine_speed": 2500.0 + 1200.0 * slow,
        "manifold_pressure": 60.0 + 25.0 * np.sin(time / 7.0),
        "throttle_position": 25.0 + 10.0 * np.sin(time / 7.0),
        "coolant_temperature": np.full(time.shape, 90.0),
        "intake_air_temperature": np.full(time.shape, 25.0),
        "loop_state": np.ones(time.shape),
        "lambda_measured": 1.0 + 0.01 * np.sin(1.3 * time),
        "lambda_target": np.ones(time.shape),
        "short_term_trim": 2.0 + slow,
        "long_term_trim": np.full(time.shape, 1.0),
    }
    channels = tuple(Channel(one, QUANTITIES[one].unit, values, one) for one, values in readings.items())
    return Log("warm", (Raster(time, channels),))
