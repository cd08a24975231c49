"""Tables as tab-separated text, as every spreadsheet copies and pastes it."""

from __future__ import annotations

import re
from enum import StrEnum

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.table import Table

_PLAIN = re.compile(r"[+-]?(\d{1,40}+(\.\d{0,40})?|\.\d{1,40})([eE][+-]?\d{1,4})?")
_COMMA = re.compile(r"[+-]?\d{0,40}+,\d{1,40}([eE][+-]?\d{1,4})?")
LONGEST = 2_000_000


class Joining(StrEnum):
    """What pasted numbers do to the cells."""

    REPLACE = "replace"
    ADD = "add"
    MULTIPLY = "multiply"


def copied(values: FloatArray, area: Area, decimals: int) -> str:
    """The rectangle around the chosen cells, highest row first as it is drawn; cells that are not chosen are empty."""
    lines = []
    for j in reversed(range(area.rows.start, area.rows.stop)):
        columns = range(area.columns.start, area.columns.stop)
        lines.append("\t".join(f"{values[j, i]:.{decimals}f}" if area.chosen[j, i] else "" for i in columns))
    return "\n".join(lines)


def read_numbers(text: str) -> FloatArray:
    """Numbers of pasted text, a line for each row; shape (lines, columns), in the order in which they stand.

    A decimal comma is read where no point stands anywhere in the text.

    Raises:
        BadInput: there is none, a line has another number of cells than the first, or a cell is no number; says which.
    """
    if len(text) > LONGEST:
        raise BadInput("the pasted text is longer than two million characters", advice="paste one table")
    lines = text.replace("\r\n", "\n").replace("\r", "\n").rstrip("\n").split("\n")
    if not any(line.strip() for line in lines):
        raise BadInput("there is nothing to paste", advice="copy cells of a spreadsheet first")
    commas = "." not in text
    rows: list[list[float]] = []
    for number, line in enumerate(lines, 1):
        cells = line.split("\t")
        if rows and len(cells) != len(rows[0]):
            raise BadInput(
                f"this line has {len(cells)} cells and the first has {len(rows[0])}",
                where=f"pasted line {number}",
                advice="copy a whole rectangle",
            )
        rows.append([_number(cell, f"pasted line {number}, cell {at}", commas) for at, cell in enumerate(cells, 1)])
    return np.array(rows)


def _number(text: str, where: str, commas: bool) -> float:
    cell = text.strip().replace("−", "-").replace("\u00a0", "").replace("\u202f", "")
    if _PLAIN.fullmatch(cell):
        value = float(cell)
        if np.isfinite(value):
            return value
    elif _COMMA.fullmatch(cell):
        if commas:
            return float(cell.replace(",", "."))
        raise BadInput(
            f"“{cell}” has a decimal comma while other cells have a point", where=where, advice="use one of the two"
        )
    if not cell:
        raise BadInput("the cell is empty", where=where, advice="copy a whole rectangle of numbers")
    shown = cell if len(cell) <= 20 else cell[:19] + "…"
    raise BadInput(f"“{shown}” is not a number", where=where, advice="paste numbers only, without heads and units")


def pasted(table: Table, area: Area, numbers: FloatArray, joining: Joining) -> tuple[FloatArray, Area]:
    """Numbers joined to the cells, and the cells they went to.

    A single number goes to every chosen cell. A block goes to the chosen rectangle of its size, or has its upper left
    corner at the single chosen cell.

    Args:
        numbers: shape (lines, columns), the first line being the highest row, as `read_numbers` gives them.

    Raises:
        BadInput: the block fits neither; says by how much.
    """
    grid = table.grid
    lines, columns = numbers.shape
    if numbers.size == 1:
        where = area
        block = np.full(grid.shape, numbers.item())
    else:
        height, width = area.rows.stop - area.rows.start, area.columns.stop - area.columns.start
        if area.count > 1 and (not area.full or (height, width) != (lines, columns)):
            raise BadInput(
                f"{lines} × {columns} numbers do not fit {height} × {width} chosen cells",
                advice="choose as many cells, or only the upper left one",
            )
        top, left = area.rows.stop - 1, area.columns.start
        if lines > top + 1 or left + columns > grid.shape[1]:
            raise BadInput(
                f"{lines} × {columns} numbers reach beyond the table from there",
                advice=f"there is room for {top + 1} × {grid.shape[1] - left}",
            )
        chosen = np.zeros(grid.shape, dtype=np.bool_)
        chosen[top - lines + 1 : top + 1, left : left + columns] = True
        where = Area(chosen, area.pinned)
        block = grid.copy()
        block[top - lines + 1 : top + 1, left : left + columns] = numbers[::-1]
    match joining:
        case Joining.REPLACE:
            joined = block
        case Joining.ADD:
            joined = grid + block
        case Joining.MULTIPLY:
            joined = grid * block
    return np.where(where.open, joined, grid), where
