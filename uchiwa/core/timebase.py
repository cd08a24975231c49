"""All recognised signals of a log on one time base."""

from __future__ import annotations

import numpy as np

from uchiwa.core.log import FloatArray, Log


def on_one_base(log: Log) -> tuple[FloatArray, dict[str, FloatArray]]:
    """The time base of engine speed, and every quantity on it; channels of other rasters are interpolated.

    Pressure ratio and boost are derived where the log has intake and barometric pressure but not them, and intake
    pressure from boost.

    Returns:
        Time in s, shape (n,), and quantity id -> values of shape (n,) in canonical units.
    """
    base = next(
        raster for raster in log.rasters if any(channel.quantity == "engine_speed" for channel in raster.channels)
    )
    signals: dict[str, FloatArray] = {}
    for raster in (base, *(other for other in log.rasters if other is not base)):
        for channel in raster.channels:
            if channel.quantity is None or channel.quantity in signals:
                continue
            values = channel.values
            if raster is not base:
                values = np.interp(base.time, raster.time, values, left=np.nan, right=np.nan)
            signals[channel.quantity] = values
    barometer, boost = signals.get("barometric_pressure"), signals.get("boost_pressure")
    if barometer is not None and boost is not None:
        signals.setdefault("manifold_pressure", boost + barometer)
    pressure = signals.get("manifold_pressure")
    if pressure is not None and barometer is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = pressure / barometer
        signals.setdefault("pressure_ratio", np.where(np.isfinite(ratio), ratio, np.nan))
        signals.setdefault("boost_pressure", pressure - barometer)
    return base.time, signals
