"""A log as ASAM MDF 4, one channel group for each raster."""

from __future__ import annotations

import io

from uchiwa.core.logs.log import Log


def write_mdf(log: Log) -> bytes:
    """MDF 4.10; notes stand in the header's comment as `key: value` lines."""
    from asammdf import MDF, Signal  # slow to import, and seldom needed

    with MDF(version="4.10") as mdf:
        mdf.header.comment = "\n".join(f"{key}: {value}" for key, value in log.notes.items())
        for raster in log.rasters:
            signals = [
                Signal(channel.values, raster.time, unit=channel.unit, name=channel.name) for channel in raster.channels
            ]
            if signals:
                mdf.append(signals, comment="", common_timebase=True)
        stream = io.BytesIO()
        mdf.save(stream, overwrite=True, compression=1)
        return stream.getvalue()
