"""Traces for the strip drawer, thinned to what a screen can show without losing a spike."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np

from uchiwa.core.log import FloatArray, Log
from uchiwa.core.proposals.why import CellAccount
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.timebase import on_one_base

POINTS = 1200


def thinned(time: FloatArray, values: FloatArray, points: int = POINTS) -> tuple[FloatArray, FloatArray]:
    """At most `points` samples: of each stretch its lowest and its highest, in their order."""
    if time.size <= points:
        return time, values
    edges = np.linspace(0, time.size, points // 2 + 1).astype(np.int64)
    filled = np.where(np.isfinite(values), values, 0.0)
    keep: list[int] = []
    for first, last in pairwise(edges):
        low, high = int(np.argmin(filled[first:last])) + first, int(np.argmax(filled[first:last])) + first
        keep += sorted({low, high})
    return time[keep], values[keep]


def moments_of(recording: Log, account: CellAccount, log: int, quantities: Sequence[str]) -> dict[str, Any]:
    """A log's traces and the spans in which the engine was in a cell, as JSON data."""
    time, signals = on_one_base(recording)
    traces = []
    for quantity in quantities:
        if quantity not in signals:
            continue
        at, values = thinned(time, signals[quantity])
        traces.append(
            {
                "title": QUANTITIES[quantity].title,
                "unit": QUANTITIES[quantity].unit,
                "time": [round(float(one), 3) for one in at],
                "values": [round(float(one), 4) if np.isfinite(one) else None for one in values],
            }
        )
    spans = [[one.start, one.end] for one in account.moments if one.log == log]
    return {"name": recording.name, "duration": float(time[-1]), "traces": traces, "spans": spans}
