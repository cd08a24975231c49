"""An expression applied to cells, `x` being each cell's own value."""

from __future__ import annotations

import ast
import re
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.evaluation import Workings
from uchiwa.core.formulas.language import parse
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.core.tables.table import Table

OWN, BASE, BINS = "x", "was", "bins"
_NAMES_BINS = re.compile(rf"\b{BINS}\b")
_FUNCTIONS = ("abs", "min", "max", "sqrt", "where")


@dataclass(frozen=True, eq=False)
class Operands:
    """What an expression may name beside the cell's own value; arrays of shape (rows, columns), or None.

    Attributes:
        base: the revision's values, for `was`.
        bins: figures gathered on the table's axes, for `bins`; NaN where there is too little evidence.
    """

    base: FloatArray | None = None
    bins: FloatArray | None = None


def names_bins(text: str) -> bool:
    """Whether a cell line speaks of gathered figures."""
    return _NAMES_BINS.search(text) is not None


def by_expression(table: Table, area: Area, text: str, known: Operands | None = None) -> FloatArray:
    """Each chosen cell's value by an expression such as `x*1.05`, `min(x, 12)`, `was`, `x + engine_speed/1000` or `14`.

    Args:
        table: values and breakpoints in the units in which the expression is meant.
        area: cells it is applied to.
        text: over `x` (the cell's value), `was` (its value in the revision), `bins` (the figure gathered for it), and the
            quantities of the axes.
        known: what `was` and `bins` stand for; neither is known without it.

    Returns:
        Shape (rows, columns); cells outside the area, and those for which nothing was gathered, as they were.

    Raises:
        BadInput: the text is no such expression, or gives no number in a cell; says where.
    """
    formula = parse(text)
    for node in ast.walk(formula.tree):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id not in _FUNCTIONS:
            raise formula.fault(node, f"{node.func.id} has no meaning for a cell", f"use {', '.join(_FUNCTIONS)}")
    grid = table.grid
    names = {OWN: grid.ravel()}
    base, bins = (None, None) if known is None else (known.base, known.bins)
    if base is not None and base.shape == grid.shape:
        names[BASE] = base.ravel()
    told = np.ones(grid.shape, dtype=np.bool_)
    if bins is not None and bins.shape == grid.shape:
        names[BINS] = bins.ravel()
        told = np.isfinite(bins) if BINS in formula.names else told
    columns, rows = np.meshgrid(table.x.breakpoints, table.y.breakpoints if table.y is not None else [0.0])
    names[table.x.quantity] = columns.ravel()
    if table.y is not None:
        names[table.y.quantity] = rows.ravel()
    for node in ast.walk(formula.tree):
        if isinstance(node, ast.Name) and node.id in formula.names and node.id not in names:
            raise formula.fault(node, f"“{node.id}” is not known for a cell", f"use {', '.join(names)}")
    found = Workings(np.zeros(grid.size), names).value(text)
    if found.dtype == np.bool_:
        raise formula.fault(formula.tree.body, "this is a condition, not a value", "write where(condition, x, y)")
    values = found.reshape(grid.shape)
    wrong = area.open & told & ~np.isfinite(values)
    if wrong.any():
        j, i = (int(at) for at in np.argwhere(wrong)[0])
        raise BadInput("this gives no number", where=cell_name(table, i, j), advice="check for a division by zero")
    return np.where(area.open & told, values, grid)
