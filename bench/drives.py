"""A small drive for whoever has to send many."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import Channel, Log, Raster


def drive(seed: int, size: int = 900) -> Log:
    """A small drive over the Pike's axes."""
    rng = np.random.default_rng(seed)
    knots = np.arange(0, size + 100, 100)
    signals = {
        "engine_speed": np.interp(np.arange(size), knots, rng.uniform(900, 4500, knots.size)).round(),
        "manifold_pressure": np.interp(np.arange(size), knots, rng.uniform(30, 95, knots.size)).round(1),
        "throttle_position": 15.0 + 20.0 * (np.arange(size) // 400 % 2),
        "coolant_temperature": np.full(size, 90.0),
        "lambda_measured": np.round(1.05 + rng.normal(0, 0.004, size), 3),
        "lambda_target": np.ones(size),
    }
    units = {"engine_speed": "rpm", "manifold_pressure": "kPa", "throttle_position": "%", "coolant_temperature": "degC"}
    channels = tuple(Channel(key, units.get(key, "1"), values, key) for key, values in signals.items())
    return Log("drive.csv", (Raster(np.arange(size) / 20.0, channels),))
