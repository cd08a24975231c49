"""Traces for the strip drawer: a few channels of one log, thinned without losing a spike."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from uchiwa.core.proposals.fuel.explanation import CellAccount
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Table
from uchiwa.core.viewing.window import drawn
from uchiwa.store.models import LogFile
from uchiwa.store.stored_log import StoredLog

POINTS = 1200
_TRACES = 3


def traces_for(table: Table) -> tuple[str, ...]:
    """What is worth seeing beside a cell of a table, most telling first: its axes, then the mixture or the trims."""
    axes = [axis.quantity for axis in (table.x, table.y) if axis is not None]
    return tuple(
        dict.fromkeys(("engine_speed", *axes, "lambda_measured", "short_term_trim", "airflow", "manifold_pressure"))
    )


def moments_of(log: LogFile, account: CellAccount, number: int, quantities: Sequence[str]) -> dict[str, Any]:
    """A log's traces and the spans in which the engine was in a cell, as JSON data.

    Args:
        log: the log.
        account: of the cell.
        number: of the log among those of the account.
        quantities: of which the first three that were recorded are drawn.
    """
    return spans_of(log, [(one.start, one.end) for one in account.moments if one.log == number], quantities)


def spans_of(log: LogFile, spans: Sequence[tuple[float, float]], quantities: Sequence[str]) -> dict[str, Any]:
    """A log's traces with some spans, in seconds, as JSON data."""
    stored = StoredLog(log, quantities)
    shown = [one for one in quantities if one in stored.signals][:_TRACES]
    stored.fetch(shown, stored.start, stored.end, POINTS)
    traces = []
    for quantity in shown:
        line = drawn(stored.time_of(quantity), stored.signals[quantity], stored.start, stored.end, POINTS)
        traces.append(
            {
                "title": QUANTITIES[quantity].title,
                "unit": QUANTITIES[quantity].unit,
                "time": [round(float(one), 3) for one in line.time],
                "values": [round(float(one), 4) if np.isfinite(one) else None for one in line.values],
            }
        )
    told = [list(one) for one in spans]
    return {"name": log.name, "log": log.id, "duration": stored.end, "traces": traces, "spans": told}
