"""A log as Parquet, names with units in brackets."""

from __future__ import annotations

import io

import polars as pl

from uchiwa.core.logs.log import Log
from uchiwa.core.logs.writers.table import union_of


def write_parquet(log: Log) -> bytes:
    """One row group of float columns; the first is `Time [s]`. Gaps are NaN."""
    time, columns = union_of(log)
    data = {"Time [s]": time}
    for channel, values in columns:
        title = f"{channel.name} [{channel.unit}]"
        while title in data:
            title = f"{title} "
        data[title] = values
    stream = io.BytesIO()
    pl.DataFrame(data).write_parquet(stream, compression="zstd")
    return stream.getvalue()
