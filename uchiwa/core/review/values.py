"""Rules about values: limits of the table, and ledges."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.review.concern import Concern, Weight, cells_of, many, unit_words
from uchiwa.core.review.reviewed import ReviewedDraft
from uchiwa.core.tables.table import Table

LEDGE = {"spark_advance": 4.0, "lambda_target": 0.08}
"""Largest step between neighbours by role, in the table's unit."""
LEDGE_SHARE = 0.10
"""… of other tables, as a share of the two values' mean."""
GREW = 1.5
"""A step counts only if it became so many times larger than it was."""


def limits(it: ReviewedDraft) -> Iterator[Concern]:
    """Values beyond the table's limits, and changed ones that now lie at one."""
    for _, table, changed in it.changed():
        low = -np.inf if table.minimum is None else table.minimum
        high = np.inf if table.maximum is None else table.maximum
        beyond = (table.grid < low) | (table.grid > high)
        if beyond.any():
            sentence = f"{table.title}: {many(int(beyond.sum()))} beyond the table's limits, {low:g} … {high:g}{unit_words(table.unit)}"
            yield Concern("limits", Weight.STOP, sentence, table.id, cells_of(beyond), _state(table, beyond))
        at = changed & ~beyond & ((table.grid == low) | (table.grid == high))
        if at.any():
            sentence = f"{table.title}: {many(int(at.sum()))} changed to the table's limit and could not go further"
            yield Concern("at_limit", Weight.NOTE, sentence, table.id, cells_of(at), _state(table, at))


def ledges(it: ReviewedDraft) -> Iterator[Concern]:
    """Steps between neighbours that the change has made, where a controller would feel an edge."""
    for before, after, changed in it.changed():
        over = np.zeros(after.shape, dtype=np.bool_)
        largest = 0.0
        for axis in (0, 1):
            if after.shape[axis] < 2:
                continue
            old, new = np.abs(np.diff(before.grid, axis=axis)), np.abs(np.diff(after.grid, axis=axis))
            touched = _pair(changed, axis, np.logical_or)
            ledge = touched & (new > _most(after, axis)) & (new > GREW * old)
            if ledge.any():
                largest = max(largest, float(new[ledge].max()))
                first, second = (
                    (slice(None, -1), slice(1, None))
                    if axis == 0
                    else ((slice(None), slice(None, -1)), (slice(None), slice(1, None)))
                )
                over[first] |= ledge
                over[second] |= ledge
        if over.any():
            sentence = f"{after.title}: a ledge of up to {largest:.3g}{unit_words(after.unit)} between neighbours, at {many(int(over.sum()))}"
            yield Concern("ledge", Weight.ANSWER, sentence, after.id, cells_of(over), _state(after, over))


def _most(table: Table, axis: int) -> FloatArray:
    if table.role in LEDGE:
        return np.full(np.diff(table.grid, axis=axis).shape, LEDGE[table.role])
    size = np.abs(table.grid)
    mean = (size[1:] + size[:-1]) / 2 if axis == 0 else (size[:, 1:] + size[:, :-1]) / 2
    return np.maximum(LEDGE_SHARE * mean, 10.0**-table.decimals)


def _pair(mask: BoolArray, axis: int, join: np.ufunc) -> BoolArray:
    both: BoolArray = join(mask[1:], mask[:-1]) if axis == 0 else join(mask[:, 1:], mask[:, :-1])
    return both


def _state(table: Table, mask: BoolArray) -> str:
    return ",".join(f"{value:g}" for value in table.grid[mask].tolist())
