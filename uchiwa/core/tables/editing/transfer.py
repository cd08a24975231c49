"""Taking single changes of one calibration into another."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.table import LARGEST, Calibration


def take_table(
    draft: Calibration,
    other: Calibration,
    table_id: str,
    cells: Iterable[tuple[int, int]] = (),
    *,
    pinned: Iterable[tuple[int, int]] = (),
) -> Calibration:
    """A draft with a table, or some cells [i, j] of it, as another calibration has them; pinned cells stay.

    Raises:
        BadInput: one of the two lacks the table, the breakpoints differ and single cells are asked for, or nothing
            would change.
    """
    try:
        mine, theirs = draft.table(table_id), other.table(table_id)
    except KeyError:
        raise BadInput(f"there is no table “{table_id}” in both", advice="compare two that have it") from None
    wanted = list(cells)
    held = {(i, j) for i, j in pinned}
    if not same_axes(mine, theirs):
        if wanted or held:
            raise BadInput(
                "the breakpoints differ, so that single cells have no counterpart",
                advice="free its pins and take the whole table",
            )
        return draft.with_table(replace(mine, x=theirs.x, y=theirs.y, values=theirs.values, zones=theirs.zones))
    chosen = np.zeros(mine.shape, dtype=np.bool_)
    for i, j in wanted or [(i, j) for j in range(mine.shape[0]) for i in range(mine.shape[1])]:
        if 0 <= j < mine.shape[0] and 0 <= i < mine.shape[1] and (i, j) not in held:
            chosen[j, i] = True
    if mine.zones or theirs.zones:
        if not chosen.all():
            raise BadInput("this table is held as polynomials, which cannot take single cells", advice="take it whole")
        return draft.with_table(replace(mine, values=theirs.values, zones=theirs.zones))
    grid = np.where(chosen, theirs.grid, mine.grid)
    if np.array_equal(grid, mine.grid):
        raise BadInput("nothing among these cells differs", advice="choose cells that do")
    return draft.with_table(mine.with_grid(grid))


def take_constant(draft: Calibration, other: Calibration, constant_id: str) -> Calibration:
    """A draft with a constant as another calibration has it.

    Raises:
        BadInput: one of the two lacks it, or they are the same.
    """
    theirs = next((constant for constant in other.constants if constant.id == constant_id), None)
    mine = next((constant for constant in draft.constants if constant.id == constant_id), None)
    if theirs is None or mine is None:
        raise BadInput(f"there is no constant “{constant_id}” in both", advice="compare two that have it")
    return set_constant(draft, constant_id, theirs.value)


def set_constant(draft: Calibration, constant_id: str, value: float) -> Calibration:
    """A draft with another value of a constant.

    Raises:
        BadInput: there is no such constant, the value is no number, or it has it already.
    """
    found = next((constant for constant in draft.constants if constant.id == constant_id), None)
    if found is None:
        raise BadInput(f"there is no constant “{constant_id}”", advice="reload the page")
    if not np.isfinite(value):
        raise BadInput("this is not a number", where=constant_id, advice="write one")
    if abs(value) > LARGEST:
        raise BadInput(f"a constant may go up to ±{LARGEST:g}", where=constant_id, advice="write a smaller one")
    if found.value == value:
        raise BadInput("this changes nothing", where=constant_id, advice="it has this value already")
    constants = tuple(
        replace(constant, value=value) if constant.id == constant_id else constant for constant in draft.constants
    )
    return replace(draft, constants=constants)
