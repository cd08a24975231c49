"""Which way a table is laid: which of its axes is load, which is speed."""

from __future__ import annotations

from dataclasses import replace

from uchiwa.core.tables.table import Axis, Table, frozen

LOADS = frozenset(
    {
        "manifold_pressure", "pressure_ratio", "boost_pressure", "engine_load", "cylinder_air", "airflow",
        "airflow_frequency", "airflow_voltage", "throttle_position", "pedal_position",
    }
)  # fmt: skip
"""Quantities of which more means a more heavily loaded engine."""

SPEED = "engine_speed"


def load_axis(table: Table) -> int | None:
    """The axis of the grid along which load rises: 0 for rows, 1 for columns; None if neither is a load.

    Of two loads the rows count, unless only the columns' partner is engine speed.
    """
    if table.y is not None and table.y.quantity in LOADS:
        return 0
    return 1 if table.x.quantity in LOADS else None


def speed_axis(table: Table) -> int | None:
    """The axis of the grid along which engine speed rises: 0 for rows, 1 for columns; None if there is none."""
    if table.x.quantity == SPEED:
        return 1
    return 0 if table.y is not None and table.y.quantity == SPEED else None


def axis_of(table: Table, along: int | None) -> Axis | None:
    """The axis along rows (0) or columns (1) of the grid."""
    if along is None:
        return None
    return table.y if along == 0 else table.x


def laid_by_speed(table: Table) -> tuple[Table, bool]:
    """The table with engine speed along its columns, and whether it had to be turned for that."""
    if table.y is None or speed_axis(table) != 0:
        return table, False
    return replace(table, x=table.y, y=table.x, values=frozen(table.grid.T), zones=()), True
