"""A log's channels side by side on the union of its time bases, for formats with one row a time."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import Channel, FloatArray, Log


def union_of(log: Log) -> tuple[FloatArray, list[tuple[Channel, FloatArray]]]:
    """Times of all rasters, rising, and each channel on them with NaN where it has no reading of its own."""
    if len(log.rasters) == 1:
        raster = log.rasters[0]
        return raster.time, [(channel, channel.values) for channel in raster.channels]
    time = np.unique(np.concatenate([raster.time for raster in log.rasters]))
    columns: list[tuple[Channel, FloatArray]] = []
    for raster in log.rasters:
        at = np.searchsorted(time, raster.time)
        for channel in raster.channels:
            values = np.full(time.shape, np.nan)
            values[at] = channel.values
            columns.append((channel, values))
    return time, columns
