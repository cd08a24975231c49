"""What a round's logs say of any table: where the engine was, for how long, where it knocked, and along which path."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.briefs.coverage import dwell
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.knock.retard import RETARDS, total_retard
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.review.duty import expected_duty
from uchiwa.core.review.reviewed import Duty, VisitedCells
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.core.viewing.operating import moments_in
from uchiwa.services.log_cache import from_logs
from uchiwa.store import samples
from uchiwa.store.models import LogFile

TRAIL = 700
_RUNNING = 400.0
_DUTY = frozenset(
    {"engine_speed", "injector_duty", "injector_pulse", "short_term_trim", "long_term_trim", "battery_voltage"}
)


@dataclass(frozen=True, eq=False)
class Visits:
    """What logs say of one table.

    Attributes:
        visited: seconds and knock retard by cell.
        trail: operating points along the longest log, in the units of the axes; shape (points, 2), or none.
    """

    visited: VisitedCells
    trail: FloatArray


_BY_PRESSURE = frozenset({"manifold_pressure", "pressure_ratio", "boost_pressure"})


def _quantities(table: Table) -> set[str]:
    """Channels of a table's axes, with those from which a pressure can be derived."""
    own = {axis.quantity for axis in (table.x, table.y) if axis is not None}
    return own | _BY_PRESSURE | {"barometric_pressure"} if own & _BY_PRESSURE else own


def visits(logs: Iterable[LogFile], table: Table) -> Visits:
    """Read it, or remember it: it depends on nothing but logs and breakpoints."""
    every = tuple(logs)
    along = tuple((one.quantity, one.unit, one.breakpoints.tobytes()) for one in (table.x, table.y) if one is not None)
    return from_logs("visits", every, along, lambda: _read(every, table))


def _read(logs: tuple[LogFile, ...], table: Table) -> Visits:
    seconds, retard, logged = np.zeros(table.shape), np.zeros(table.shape), False
    trail, longest = np.zeros((0, 2)), 0.0
    wanted = {*_quantities(table), "engine_speed", *RETARDS}
    for recording in samples.read(list(logs), wanted):
        time, signals = on_one_base(recording)
        try:
            x = axis_values(table.x, signals, recording.name)
            y = axis_values(table.y, signals, recording.name) if table.y is not None else np.zeros(time.shape)
        except BadInput:
            continue
        logged = True
        running = signals["engine_speed"] > _RUNNING
        seconds += dwell(table, time, signals, running)
        _worst(retard, table, total_retard(signals), np.where(running, x, np.nan), y)
        if time.size and time[-1] - time[0] > longest:
            longest = float(time[-1] - time[0])
            at = np.linspace(0, time.size - 1, min(TRAIL, time.size)).astype(int)
            trail = np.column_stack([x[at], y[at]])
    return Visits(VisitedCells(seconds, retard, logged), trail[np.isfinite(trail).all(axis=1)])


def moments(
    logs: Iterable[LogFile], table: Table, cells: Collection[tuple[int, int]]
) -> tuple[LogFile, list[tuple[float, float]]] | None:
    """The log in which the engine was longest in some cells [i, j], and the stretches (s) in which it was.

    Returns:
        The first log without a stretch if it never was there; None without logs.
    """
    every = list(logs)
    best: tuple[LogFile, list[tuple[float, float]]] | None = (every[0], []) if every else None
    longest = 0.0
    for log, recording in zip(every, samples.read(every, {*_quantities(table), "engine_speed"}), strict=True):
        time, signals = on_one_base(recording)
        try:
            x = axis_values(table.x, signals, recording.name)
            y = axis_values(table.y, signals, recording.name) if table.y is not None else None
        except BadInput:
            continue
        spans = moments_in(table, time, x, y, cells)
        seconds = sum(end - start for start, end in spans)
        if seconds > longest:
            best, longest = (log, spans), seconds
    return best


def _worst(retard: FloatArray, table: Table, knock: FloatArray | None, x: FloatArray, y: FloatArray) -> None:
    if knock is None:
        return
    use = np.isfinite(knock) & np.isfinite(x) & np.isfinite(y) & table.x.covers(x)
    if table.y is not None:
        use &= table.y.covers(y)
    j = table.y.nearest(y[use]) if table.y is not None else np.zeros(int(use.sum()), dtype=np.int64)
    np.maximum.at(retard, (j, table.x.nearest(x[use])), knock[use])


def duty_of(
    logs: Iterable[LogFile], before: Calibration, after: Calibration, car: CarFile | None = None
) -> Duty | None:
    """The highest injector duty to be expected, over all logs."""
    every = list(logs)
    if not every:
        return None
    tables = [
        *after.by_role("volumetric_efficiency")[:1],
        *after.by_role("maf_curve")[:1],
        *after.by_role("lambda_target")[:1],
    ]
    wanted = set(_DUTY).union(*(_quantities(table) for table in tables))
    found = [expected_duty(on_one_base(log)[1], before, after, car) for log in samples.read(every, wanted)]
    return max((duty for duty in found if duty is not None), key=lambda duty: duty.expected, default=None)
