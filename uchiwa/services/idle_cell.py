"""Where in its table a car idles."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.briefs.coverage import dwell
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.signal import within
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.store import briefs, jobs, log_files, samples
from uchiwa.store.collected import drives_of
from uchiwa.store.models import Job

_LOOKED_AT = 8


def idle_cell(job: Job) -> dict[str, Any] | None:
    """In which cell of the table under work the car idles, by its latest log with warm idle; None if there is none."""
    round_ = jobs.rounds(job)[-1]
    table = briefs.table_under_work(job, round_)
    if table is None:
        return None
    for log in log_files.latest_ready(job, _LOOKED_AT):
        idles = [(drive.start, drive.end) for drive in drives_of(log) if drive.kind is DriveKind.WARM_IDLE]
        if not idles:
            continue
        wanted = {
            "engine_speed",
            "barometric_pressure",
            "manifold_pressure",
            table.x.quantity,
            table.y.quantity if table.y else "",
        }
        time, signals = on_one_base(samples.read([log], wanted)[0])
        seconds = dwell(table, time, signals, within(time, idles))
        if seconds.sum() < 2.0:
            continue
        j, i = (int(one) for one in np.unravel_index(int(seconds.argmax()), seconds.shape))
        return {
            "table": table,
            "x": float(table.x.breakpoints[i]),
            "y": float(table.y.breakpoints[j]) if table.y is not None else None,
            "share": float(seconds[j, i] / seconds.sum()),
            "value": float(table.grid[j, i]),
            "log": log.name,
            "i": i,
            "j": j,
        }
    return None
