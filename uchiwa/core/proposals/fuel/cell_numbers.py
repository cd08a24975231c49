"""In which cell of a table each sample of a log lies."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from uchiwa.core.logs.log import IntArray
from uchiwa.core.proposals.fuel.one_log import OneLog
from uchiwa.core.tables.table import Axis, Table, frozen


def _finer(axis: Axis) -> Axis:
    """The axis with its middles as well."""
    points = axis.breakpoints
    middles = (points[1:] + points[:-1]) / 2
    return replace(axis, breakpoints=frozen(np.sort(np.concatenate((points, middles)))))


def cell_numbers(log: OneLog, table: Table, *, finer: bool = False) -> tuple[IntArray, int]:
    """The cell that each sample lies in, or the quarter of one, and how many there are."""
    x = _finer(table.x) if finer else table.x
    cell, count = x.nearest(np.nan_to_num(log.x)), x.size
    if log.y is not None and table.y is not None:
        y = _finer(table.y) if finer else table.y
        cell, count = cell + y.nearest(np.nan_to_num(log.y)) * x.size, x.size * y.size
    return cell, count
