"""Which cells of a table a drive should visit, which it has, and what is still wanted in words a driver understands."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.signal import durations
from uchiwa.core.tables.orientation import axis_of, load_axis, speed_axis
from uchiwa.core.tables.table import Table
from uchiwa.core.words.sentence import N_, Sentence

Cell = tuple[int, int]
LIGHT, MIDDLE, FULL = N_("light throttle"), N_("half throttle"), N_("firm throttle, as on a long hill")
_BANDS = (LIGHT, MIDDLE, FULL)


def load_shares(table: Table) -> FloatArray:
    """How loaded the engine is in each cell of a table, as a share of ambient pressure; shape (rows, columns).

    Whichever way the table is laid; nought where neither axis is a load.
    """
    along = load_axis(table)
    axis = axis_of(table, along)
    if axis is None:
        return np.zeros(table.shape)
    points = axis.breakpoints
    if axis.quantity != "pressure_ratio":
        points = points / 100.0 if axis.unit == "kPa" else points / points.max()
    return np.broadcast_to(points[:, None] if along == 0 else points[None, :], table.shape)


def speeds_of(table: Table) -> FloatArray:
    """Engine speed in each cell, rpm; NaN where no axis tells it; shape (rows, columns)."""
    along = speed_axis(table)
    axis = axis_of(table, along)
    if axis is None:
        return np.full(table.shape, np.nan)
    points = axis.breakpoints
    return np.broadcast_to(points[:, None] if along == 0 else points[None, :], table.shape)


def cruise_cells(table: Table) -> tuple[Cell, ...]:
    """The cells [i, j] that a steady cruise is to visit: 1200 to 3600 rpm from light load to near ambient pressure.

    On an airflow meter's curve: the breakpoints from idle to a firm pull up a hill, 3 to 45 g/s.
    """
    if table.y is None:
        values = table.grid[0]
        return tuple((i, 0) for i in range(table.x.size) if 3.0 <= values[i] <= 45.0)
    loads, speeds = load_shares(table), speeds_of(table)
    wanted = (speeds >= 1150) & (speeds <= 3650) & (loads >= 0.28) & (loads <= 0.92)
    return tuple((int(i), int(j)) for j, i in np.argwhere(wanted))


def dwell(table: Table, time: FloatArray, signals: Mapping[str, FloatArray], use: np.ndarray) -> FloatArray:
    """Seconds in each cell, by the nearest breakpoints; shape (rows, columns). Zero where the axes were not recorded."""
    total = np.zeros(table.shape)
    try:
        x = axis_values(table.x, dict(signals), "log")
        y = axis_values(table.y, dict(signals), "log") if table.y is not None else None
    except BadInput:
        return total
    inside = use & np.isfinite(x) & table.x.covers(x)
    if y is not None and table.y is not None:
        inside &= np.isfinite(y) & table.y.covers(y)
    i = table.x.nearest(x[inside])
    j = table.y.nearest(y[inside]) if y is not None and table.y is not None else np.zeros(i.shape, dtype=np.int64)
    np.add.at(total, (j, i), durations(time)[inside])
    return total


@dataclass(frozen=True, eq=False)
class Coverage:
    """How far some wanted cells have been visited.

    Attributes:
        table: whose cells.
        wanted: the cells [i, j].
        seconds: in each cell of the table; shape (rows, columns).
        enough: seconds that make a cell covered.
    """

    table: Table
    wanted: Collection[Cell]
    seconds: FloatArray
    enough: float

    @property
    def share(self) -> float:
        """Covered cells as a share of the wanted ones; 1 if none is wanted."""
        if not self.wanted:
            return 1.0
        return float(np.mean([self.seconds[j, i] >= self.enough for i, j in self.wanted]))

    def band_of(self, i: int, j: int) -> str:
        """The words for a cell's load."""
        load = load_shares(self.table)[j, i]
        return LIGHT if load < 0.48 else MIDDLE if load < 0.72 else FULL

    def missing(self) -> list[str]:
        """What to drive for, largest gap first: at most four phrases such as “light throttle around 3000 rpm”."""
        open_cells = [(i, j) for i, j in self.wanted if self.seconds[j, i] < self.enough]
        if self.table.y is None:
            return self._missing_on_curve([i for i, _ in open_cells])
        phrases: list[tuple[int, str]] = []
        rows = speed_axis(self.table) == 0
        speeds = axis_of(self.table, speed_axis(self.table)) or self.table.x
        for band in _BANDS:
            inside = [j if rows else i for i, j in open_cells if self.band_of(i, j) == band]
            for run in _runs(sorted(set(inside))):
                count = sum(1 for at in inside if at in run)
                low, high = (_round_speed(float(speeds.breakpoints[at])) for at in (run[0], run[-1]))
                if low == high:
                    words = Sentence("{band} around {low} rpm", band=band, low=low)
                else:
                    words = Sentence("{band} between {low} and {high} rpm", band=band, low=low, high=high)
                phrases.append((count, words))
        phrases.sort(key=lambda entry: -entry[0])
        return [phrase for _, phrase in phrases[:4]]

    def _missing_on_curve(self, columns: list[int]) -> list[str]:
        flows = self.table.grid[0]
        words = {
            "low": N_("gentle driving just above idle"),
            "mid": N_("steady driving at 2000 to 3000 rpm"),
            "high": N_("long hills at 3000 rpm and more"),
        }
        kinds = ["low" if flows[i] < 8 else "mid" if flows[i] < 22 else "high" for i in columns]
        return [words[kind] for kind in ("low", "mid", "high") if kind in kinds]


def _runs(columns: list[int]) -> list[list[int]]:
    runs: list[list[int]] = []
    for column in columns:
        if runs and column == runs[-1][-1] + 1:
            runs[-1].append(column)
        else:
            runs.append([column])
    return runs


def _round_speed(speed: float) -> int:
    return round(speed / 100.0) * 100
