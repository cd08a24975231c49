"""Which step gave each cell of a table its present value."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, IntArray
from uchiwa.core.tables.table import Calibration, Table


@dataclass(frozen=True, eq=False)
class Step:
    """A step that changed a calibration.

    Attributes:
        before, after: its content.
        words: what was done.
        kind: `take`, `edit`, ….
        id: of the event.
    """

    before: Calibration
    after: Calibration
    words: str
    kind: str = "edit"
    id: int = 0


@dataclass(frozen=True)
class CellStep:
    """A step as one cell saw it."""

    step: Step
    before: float
    after: float


def _tables(step: Step, table_id: str) -> tuple[Table, Table] | None:
    found = [next((table for table in side.tables if table.id == table_id), None) for side in (step.before, step.after)]
    before, after = found
    return None if before is None or after is None else (before, after)


def last_step(table: Table, steps: Sequence[Step]) -> IntArray:
    """For each cell, the index of the last step that changed it; −1 where none did. Shape (rows, columns).

    A step that changed the breakpoints changed every cell.
    """
    last = np.full(table.shape, -1, dtype=np.int64)
    for number, step in enumerate(steps):
        pair = _tables(step, table.id)
        if pair is None or pair[1].shape != table.shape:
            continue
        before, after = pair
        if before.shape != after.shape:
            last[:] = number
        else:
            last[before.grid != after.grid] = number
    return last


def by_hand(table: Table, steps: Sequence[Step]) -> BoolArray:
    """The cells whose present value an edit gave, and no proposal; shape (rows, columns)."""
    last = last_step(table, steps)
    edits = np.array([step.kind == "edit" for step in steps], dtype=np.bool_)
    mask: BoolArray = (last >= 0) & edits[last] if edits.size else np.zeros(table.shape, dtype=np.bool_)
    return mask


def cell_steps(table_id: str, i: int, j: int, steps: Sequence[Step]) -> tuple[CellStep, ...]:
    """The steps that changed a cell, oldest first."""
    found = []
    for step in steps:
        pair = _tables(step, table_id)
        if pair is None:
            continue
        before, after = pair
        if before.shape != after.shape or j >= after.shape[0] or i >= after.shape[1]:
            continue
        if before.grid[j, i] != after.grid[j, i]:
            found.append(CellStep(step, float(before.grid[j, i]), float(after.grid[j, i])))
    return tuple(found)


def by_reason(table: Table, base: Table, steps: Sequence[Step]) -> tuple[tuple[str, int], ...]:
    """How many of the cells that differ from a revision came about by which step, the most first."""
    if base.shape != table.shape:
        return ()
    last = last_step(table, steps)
    counts: dict[str, int] = {}
    for number in last[table.grid != base.grid].tolist():
        words = steps[number].words if number >= 0 else "before this round"
        counts[words] = counts.get(words, 0) + 1
    return tuple(sorted(counts.items(), key=lambda item: -item[1]))
