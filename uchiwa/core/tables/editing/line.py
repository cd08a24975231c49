"""The cell line: one line of text that says what is to happen to the chosen cells."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.quantities.display import DisplayUnits, shown_table, value_scale
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.expression import Operands, by_expression
from uchiwa.core.tables.editing.filling import Direction, filled
from uchiwa.core.tables.editing.shape import Keeping, Line, shaped
from uchiwa.core.tables.editing.smoothing import smoothed
from uchiwa.core.tables.editing.steps import LedgeDirection, limited
from uchiwa.core.tables.table import Table
from uchiwa.core.tables.zones import refit
from uchiwa.core.typed_number import typed_number

_PERCENT = re.compile(r"([+\-−])\s{0,9}(\d{1,30}+(?:[.,]\d{1,30}+)?)\s{0,9}%")
_NUMBER = re.compile(r"[+\-−]?\d{1,30}(?:[.,]\d{1,30})?")


@dataclass(frozen=True)
class Verb:
    """A word that the cell line knows.

    Attributes:
        written: how it is written.
        words: what it does.
    """

    written: str
    words: str


VERBS: dict[str, Verb] = {
    "smooth": Verb("smooth 40", "towards the line between the neighbours, by so many %; “smooth 40 3” three times"),
    "fill": Verb("fill across", "straight lines between the edges: across, up, or both"),
    "steps": Verb("steps 3 lower", "no step to a neighbour over so much; lower only, or both ways without the word"),
    "shape": Verb("shape row 60", "the shape of a row or column, own level kept; “shifted” adds instead of scaling"),
}


@dataclass(frozen=True, eq=False)
class EditResult:
    """What an edit made of a table.

    Attributes:
        table: afterwards.
        changed: cells that differ; shape (rows, columns).
        sentence: what was done, in plain words.
    """

    table: Table
    changed: BoolArray
    sentence: str


def edited(
    table: Table,
    area: Area,
    text: str,
    base: Table | None = None,
    display: DisplayUnits | None = None,
    bins: FloatArray | None = None,
) -> EditResult:
    """Apply a cell line to the chosen cells.

    An expression (`x*1.05`, `min(x, 12)`, `14`), a percentage (`+5 %`), or one of the words in `VERBS`. Numbers are
    meant in the units that the person sees.

    Args:
        base: the revision's table, which `was` refers to.
        display: the units seen.
        bins: figures gathered on the table's axes, which `bins` refers to; cells without one stay.

    Raises:
        BadInput: the line cannot be understood or applied; the table is not touched.
    """
    display = display or DisplayUnits()
    seen = shown_table(table, display)
    was = None if base is None else value_scale(base, display).shown(base.grid)
    words = " ".join(text.split())
    if not words:
        raise BadInput(
            "the cell line is empty", advice="write an expression such as x*1.05, or a word such as smooth 40"
        )
    values = _apply(seen, area, words, Operands(was, bins))
    return finished(table, area, values, words, display)


def finished(table: Table, area: Area, values: FloatArray, words: str, display: DisplayUnits) -> EditResult:
    """An edit's values, given as they are seen, as they are kept: at the table's precision and within its limits.

    Raises:
        BadInput: nothing would change.
    """
    moved = area.open & (values != shown_table(table, display).grid)
    wanted = np.where(moved, value_scale(table, display).stored(values), table.grid)
    kept = np.where(moved, table.rounded(wanted), table.grid)
    after = _with(table, kept, moved)
    changed = after.grid != table.grid
    if not changed.any():
        raise BadInput("this changes nothing", advice="the cells already have these values")
    clipped = int((moved & (np.abs(kept - wanted) > 10.0**-table.decimals)).sum())
    pinned = int((area.chosen & area.pinned).sum())
    count = int(changed.sum())
    sentence = f"{table.title}: {words} in {count} cell{'s' if count != 1 else ''}"
    if clipped:
        sentence += f", {clipped} held at the table's limit"
    if pinned:
        sentence += f", {pinned} pinned kept"
    return EditResult(after, changed, sentence)


def _with(table: Table, grid: FloatArray, moved: BoolArray) -> Table:
    """The table with other values; polynomials are fitted to them, most closely where cells were moved."""
    if not table.zones or table.y is None:
        return table.with_grid(grid)
    weight = np.where(moved, 10.0, 1.0)
    return replace(table.with_zones(refit(table.zones, table.x.breakpoints, table.y.breakpoints, grid, weight)))


def _apply(seen: Table, area: Area, words: str, known: Operands) -> FloatArray:
    percent = _PERCENT.fullmatch(words)
    if percent is not None:
        sign = -1.0 if percent[1] in "-−" else 1.0
        return np.where(area.open, seen.grid * (1.0 + sign * _number(percent[2]) / 100.0), seen.grid)
    parts = words.lower().split(" ")
    match parts:
        case ["smooth", strength]:
            return smoothed(seen, area, _number(strength))
        case ["smooth", strength, passes]:
            return smoothed(seen, area, _number(strength), _whole(passes))
        case ["fill", direction] if direction in list(Direction):
            return filled(seen, area, Direction(direction))
        case ["steps", most]:
            return limited(seen, area, _number(most), LedgeDirection.BOTH)
        case ["steps", most, "lower"]:
            return limited(seen, area, _number(most), LedgeDirection.LOWER)
        case ["shape", line, at] if line in list(Line):
            return shaped(seen, area, Line(line), _number(at), Keeping.SCALED)
        case ["shape", line, at, keeping] if line in list(Line) and keeping in list(Keeping):
            return shaped(seen, area, Line(line), _number(at), Keeping(keeping))
        case [verb, *_] if verb in VERBS:
            raise BadInput(f"“{words}” cannot be understood", advice=f"write {VERBS[verb].written}")
        case _:
            return by_expression(seen, area, words.replace("−", "-"), known)


def _number(text: str) -> float:
    bare = text.removesuffix("%")
    if not _NUMBER.fullmatch(bare):
        raise BadInput(f"“{text}” is not a number", advice="write one, such as 40")
    return typed_number(bare)


def _whole(text: str) -> int:
    bare = text.removeprefix("x").removeprefix("×")
    if not bare.isdigit():
        raise BadInput(f"“{text}” is not a whole number", advice="write one, such as 3")
    return int(bare)
