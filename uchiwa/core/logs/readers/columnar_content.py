"""Parquet and Arrow files by polars, as plain columns."""

from __future__ import annotations

import io

import numpy as np
import polars as pl

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.readers.clock import clock_seconds, is_clock
from uchiwa.core.quantities.states import state_of


def columnar_content(data: bytes) -> list[tuple[str, FloatArray, str]]:
    """Columns as (name, values, kind), kind `number`, `seconds` or `none`. Anything may be raised for a damaged file."""
    stream = io.BytesIO(data)
    frame = pl.read_parquet(stream) if data.startswith(b"PAR1") else pl.read_ipc(stream)
    return [(column.name, *_numbers(column)) for column in frame]


def _numbers(column: pl.Series) -> tuple[FloatArray, str]:
    kind = column.dtype
    if kind.is_numeric() or kind == pl.Boolean:
        return _float(column.cast(pl.Float64)), "number"
    if kind.is_temporal():
        if kind == pl.Date:
            return np.full(column.len(), np.nan), "none"
        per_second = {"ms": 1e3, "us": 1e6, "ns": 1e9}[getattr(kind, "time_unit", None) or "ns"]
        whole = column.to_physical()
        first = whole.drop_nulls()
        start = first[0] if first.len() and kind != pl.Time else 0
        return _float((whole - start).cast(pl.Float64)) / per_second, "seconds"
    text = column.cast(pl.String, strict=False).to_list()
    if any(cell and is_clock(cell) for cell in text[:20]):
        return np.array([clock_seconds(cell or "") for cell in text]), "seconds"
    words = {cell: state_of(cell) for cell in set(text) if cell is not None}
    if any(value is not None for value in words.values()):
        return np.array([_value(words.get(cell) if cell is not None else None) for cell in text]), "number"
    return np.full(column.len(), np.nan), "none"


def _value(number: float | None) -> float:
    return float("nan") if number is None else number


def _float(column: pl.Series) -> FloatArray:
    return np.array(column.fill_null(float("nan")).to_numpy(), dtype=np.float64)
