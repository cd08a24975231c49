"""The tables of a calibration by purpose."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.table import Calibration, Table

PURPOSES: tuple[tuple[str, tuple[str, ...]], ...] = (
    ("Airflow", ("volumetric_efficiency", "maf_curve")),
    ("Mixture", ("lambda_target", "cold_lambda_offset")),
    ("Spark and knock", ("spark_advance", "knock_limit")),
    ("Idle and warm-up", ("idle_airflow", "warmup_factor")),
    ("Clamps", ("airflow_clamp",)),
    ("Other", ("other",)),
)


@dataclass(frozen=True)
class ListedTable:
    """A table in the list: its size in words, and how many cells differ from the revision (−1: other breakpoints)."""

    id: str
    title: str
    size: str
    changed: int


def listed(content: Calibration, base: Calibration) -> tuple[tuple[str, tuple[ListedTable, ...]], ...]:
    """All tables by purpose; purposes without one are left out."""
    old = {table.id: table for table in base.tables}
    groups = []
    for purpose, roles in PURPOSES:
        found = tuple(_listed(table, old.get(table.id)) for table in content.tables if table.role in roles)
        if found:
            groups.append((purpose, found))
    return tuple(groups)


def _listed(table: Table, was: Table | None) -> ListedTable:
    rows, columns = table.shape
    size = f"{columns} × {rows}" if table.y is not None else f"{columns} points"
    if was is None or not same_axes(was, table):
        return ListedTable(table.id, table.title, size, -1)
    return ListedTable(table.id, table.title, size, int(np.count_nonzero(was.grid != table.grid)))
