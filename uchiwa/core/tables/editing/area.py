"""The cells that an edit is about."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.tables.table import Table


@dataclass(frozen=True, eq=False)
class Area:
    """Chosen cells of a table, and which cells of it are pinned; both of shape (rows, columns)."""

    chosen: BoolArray
    pinned: BoolArray

    @classmethod
    def of(cls, table: Table, cells: Iterable[tuple[int, int]], pinned: Iterable[tuple[int, int]] = ()) -> Area:
        """An area from cells [i, j] (column, row).

        Raises:
            BadInput: no cell is chosen, one lies beyond the table, or all of them are pinned.
        """
        rows, columns = table.shape
        chosen = np.zeros(table.shape, dtype=np.bool_)
        for i, j in cells:
            if not (0 <= i < columns and 0 <= j < rows):
                raise BadInput(
                    f"{table.title} has no cell in column {i + 1}, row {j + 1}", advice="choose cells on the grid"
                )
            chosen[j, i] = True
        held = np.zeros(table.shape, dtype=np.bool_)
        for i, j in pinned:
            if 0 <= i < columns and 0 <= j < rows:
                held[j, i] = True
        if not chosen.any():
            raise BadInput("no cell is chosen", advice="choose cells on the grid first")
        if not (chosen & ~held).any():
            raise BadInput("the chosen cells are pinned", advice="free them first")
        return cls(chosen, held)

    @classmethod
    def whole(cls, table: Table) -> Area:
        """Every cell, none pinned."""
        return cls(np.ones(table.shape, dtype=np.bool_), np.zeros(table.shape, dtype=np.bool_))

    @property
    def open(self) -> BoolArray:
        """The chosen cells that may change."""
        free: BoolArray = self.chosen & ~self.pinned
        return free

    @property
    def count(self) -> int:
        """Number of chosen cells."""
        return int(self.chosen.sum())

    @property
    def rows(self) -> slice:
        """From the lowest to the highest row with a chosen cell."""
        return _span(np.flatnonzero(self.chosen.any(axis=1)))

    @property
    def columns(self) -> slice:
        """From the first to the last column with a chosen cell."""
        return _span(np.flatnonzero(self.chosen.any(axis=0)))

    @property
    def full(self) -> bool:
        """Whether the chosen cells are a whole rectangle."""
        return bool(self.chosen[self.rows, self.columns].all())


def _span(at: IntArray) -> slice:
    return slice(int(at[0]), int(at[-1]) + 1)


def places(table: Table, direction: int) -> FloatArray:
    """Breakpoints along a direction of the grid: 1 across (x), 0 up (y); a curve has one place upwards."""
    if direction == 1:
        return table.x.breakpoints
    return table.y.breakpoints if table.y is not None else np.zeros(1)
