"""The difference between two calibrations."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.table import Calibration, Table


@dataclass(frozen=True, eq=False)
class TableDifference:
    """How one table differs.

    Attributes:
        table: the later table.
        before, after: values as (rows, columns).
        changed: which cells differ; shape (rows, columns).
    """

    table: Table
    before: FloatArray
    after: FloatArray
    changed: BoolArray

    @property
    def percent(self) -> FloatArray:
        """The change in percent of the earlier value; NaN where that is 0."""
        with np.errstate(divide="ignore", invalid="ignore"):
            change: FloatArray = (self.after / self.before - 1.0) * 100.0
        change[~np.isfinite(change)] = np.nan
        return change

    @property
    def in_steps(self) -> bool:
        """Whether a change is told in the table's own unit: a percentage of an angle or a temperature says nothing."""
        return self.table.role == "spark_advance" or self.table.unit in ("deg", "degC")

    @property
    def sentence(self) -> str:
        """The change in one plain sentence."""
        cells = int(self.changed.sum())
        return f"{self.table.title}: {cells} cell{'' if cells == 1 else 's'} changed, {self.span}"

    @property
    def span(self) -> str:
        """From which change to which, with its unit; one figure where they read alike."""
        change = self.percent[self.changed]
        if not self.in_steps and change.size and np.isfinite(change).all():
            low, high = float(change.min()), float(change.max())
            least, most, unit = signed(low), signed(high), " %"
        else:
            steps = (self.after - self.before)[self.changed]
            unit = {"deg": "°", "degC": " °C"}.get(self.table.unit, f" {self.table.unit}")
            least, most = signed(float(steps.min())), signed(float(steps.max()))
        return f"{least}{unit}" if least == most else f"{least} … {most}{unit}"


@dataclass(frozen=True, eq=False)
class Difference:
    """How a calibration differs from an earlier one."""

    tables: tuple[TableDifference, ...]
    constants: tuple[tuple[str, float | None, float | None], ...]
    only_before: tuple[str, ...]
    only_after: tuple[str, ...]
    other_axes: tuple[str, ...]

    @property
    def empty(self) -> bool:
        """Whether the two are the same."""
        return not (self.tables or self.constants or self.only_before or self.only_after or self.other_axes)


def signed(value: float, decimals: int = 1) -> str:
    """A number with its sign and a true minus; zero has no sign."""
    rounded = round(value, decimals)
    if rounded == 0:
        return f"{0:.{decimals}f}"
    return f"{'+' if rounded > 0 else '−'}{abs(rounded):.{decimals}f}"


def same_axes(table: Table, other: Table) -> bool:
    """Whether two tables have the same breakpoints of the same quantities."""
    axes = ((table.x, other.x), (table.y, other.y))
    for a, b in axes:
        if (a is None) != (b is None):
            return False
        if a is not None and b is not None:
            same = a.quantity == b.quantity and a.unit == b.unit and np.array_equal(a.breakpoints, b.breakpoints)
            if not same:
                return False
    return True


def difference(before: Calibration, after: Calibration) -> Difference:
    """What `after` has changed from `before`, table by table and constant by constant."""
    old = {table.id: table for table in before.tables}
    new = {table.id: table for table in after.tables}
    shared = [table_id for table_id in new if table_id in old]
    tables: list[TableDifference] = []
    for table_id in shared:
        a, b = old[table_id], new[table_id]
        if same_axes(a, b) and not np.array_equal(a.grid, b.grid):
            tables.append(TableDifference(b, a.grid, b.grid, a.grid != b.grid))
    old_constants = {constant.id: constant.value for constant in before.constants}
    new_constants = {constant.id: constant.value for constant in after.constants}
    names = [*new_constants, *(name for name in old_constants if name not in new_constants)]
    changed = [
        (name, old_constants.get(name), new_constants.get(name))
        for name in names
        if old_constants.get(name) != new_constants.get(name)
    ]
    return Difference(
        tables=tuple(tables),
        constants=tuple(changed),
        only_before=tuple(table_id for table_id in old if table_id not in new),
        only_after=tuple(table_id for table_id in new if table_id not in old),
        other_axes=tuple(table_id for table_id in shared if not same_axes(old[table_id], new[table_id])),
    )
