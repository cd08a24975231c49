"""What runs say of the spark that is known to be clean, and of that which knocked."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from uchiwa.core.knock.evidence import Placed
from uchiwa.core.knock.retard import LEARNED, total_retard
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.runs import Bands
from uchiwa.core.tables.table import Table

_RUNG = 0.5
_LISTENING = ("knock_retard", LEARNED, "knock_count", "knock_level", "marker")
_BESIDE_RPM = 1100.0
_ANY_RETARD = 0.1
_EXCUSED_S = 3.0


def knock_limits(speeds: FloatArray, present: FloatArray, heard: dict[int, tuple[float, float]]) -> FloatArray:
    """Spark at which each column begins to knock; NaN where nothing near it knocked.

    Where it knocked the limit lies between the highest clean spark and the lowest that knocked. In columns between
    and beside those (up to 1100 rpm away) the distance from the present table to the limit is interpolated, for a
    limit does not jump with speed, but never below what was run clean there.

    Args:
        speeds: rpm by column.
        present: spark of the table by column, NaN where nothing was run.
        heard: by column, the highest clean spark and the lowest that knocked; NaN for none.
    """
    limits = np.full(speeds.shape, np.nan)
    for column, (clean, knocked) in heard.items():
        if np.isfinite(knocked):
            below = clean if np.isfinite(clean) and knocked - 1.0 <= clean < knocked else knocked - _RUNG
            limits[column] = (below + knocked) / 2
    sure = np.flatnonzero(np.isfinite(limits))
    if sure.size == 0:
        return limits
    room = limits - present
    for column, (clean, knocked) in heard.items():
        if np.isfinite(knocked) or np.abs(speeds[sure] - speeds[column]).min() > _BESIDE_RPM:
            continue
        near = float(np.interp(speeds[column], speeds[sure], room[sure])) + float(present[column])
        limits[column] = max(near, clean) if np.isfinite(clean) else near
    return limits


class ColumnKnock(NamedTuple):
    """Highest spark run clean in a column, lowest that knocked, NaN for none, and whether anything listened."""

    clean: float
    knocked: float
    listened: bool


@dataclass(frozen=True, eq=False)
class JudgedKnock:
    """Knock as it was judged: events that count, and those that a person holds to be noise."""

    real: Sequence[Placed]
    excused: Sequence[Placed] = ()


def heard_in(
    column: int, numbered: Sequence[tuple[int, Pull]], bands: Bands, told: JudgedKnock, laid: tuple[Table, float]
) -> ColumnKnock:
    """What was heard in a column of a spark table.

    A knock counts by how far its spark stood above the present table at its own speed and load. A run that held any retard
    in the column is not clean, unless a person holds what was heard there to be noise.

    Args:
        column: of the table.
        numbered: pulls with the number of their log.
        bands: of the same pulls.
        told: the knock of the same pulls.
        laid: the table, with engine speed along its columns, and the spark that it gives at full load in the column.
    """
    table, present = laid
    low, high = bands.edges[column], bands.edges[column + 1]
    clean, knocked, listened = float("nan"), float("nan"), False
    for row, (index, pull) in enumerate(numbered):
        spark = bands.spark[row, column]
        if not np.isfinite(spark) or not any(one in pull.signals for one in _LISTENING):
            continue
        listened = True
        here = [
            placed for placed in told.real
            if placed.log == index and pull.start - 0.1 <= placed.event.at <= pull.end + 0.1 and low <= placed.speed < high
        ]  # fmt: skip
        if not here:
            if not _held_retard(pull, low, high, [placed for placed in told.excused if placed.log == index]):
                clean = float(np.fmax(clean, spark))
            continue
        for placed in here:
            given = float(table.lookup(np.array([placed.x]), np.array([placed.y]) if table.y is not None else None)[0])
            knocked = float(np.fmin(knocked, present + _fired_before(pull, placed.event.at) - given))
    return ColumnKnock(clean, knocked, listened)


def _held_retard(pull: Pull, low: float, high: float, excused: Sequence[Placed]) -> bool:
    """Whether retard was held in a band of speed, far from every event that is held to be noise."""
    retard = total_retard(pull.signals)
    if retard is None:
        return False
    here = (pull.speed >= low) & (pull.speed < high) & (np.abs(np.nan_to_num(retard)) > _ANY_RETARD)
    for placed in excused:
        here &= ~((pull.time >= placed.event.at - 0.1) & (pull.time <= placed.event.at + _EXCUSED_S))
    return bool(here.any())


def _fired_before(pull: Pull, at: float) -> float:
    """The spark that knocked: the highest of the last three samples, for a controller takes it out at once."""
    place = int(np.searchsorted(pull.time, at - 1e-9))
    return float(np.nanmax(pull.signals["spark_advance"][max(place - 2, 0) : place + 1]))
