"""An expression applied to cells, `x` being each cell's own value."""

from __future__ import annotations

import ast

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.evaluation import Workings
from uchiwa.core.formulas.language import parse
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.cellname import cell_name
from uchiwa.core.tables.table import Table

OWN, BASE = "x", "was"
_FUNCTIONS = ("abs", "min", "max", "sqrt", "where")


def by_expression(table: Table, area: Area, text: str, base: FloatArray | None = None) -> FloatArray:
    """Each chosen cell's value by an expression such as `x*1.05`, `min(x, 12)`, `was`, `x + engine_speed/1000` or `14`.

    Args:
        table: values and breakpoints in the units in which the expression is meant.
        area: cells it is applied to.
        text: over `x` (the cell's value), `was` (its value in the revision), and the quantities of the axes.
        base: the revision's values, shape (rows, columns); `was` is not known without it.

    Returns:
        Shape (rows, columns); cells outside the area as they were.

    Raises:
        BadInput: the text is no such expression, or gives no number in a cell; says where.
    """
    formula = parse(text)
    for node in ast.walk(formula.tree):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id not in _FUNCTIONS:
            raise formula.fault(node, f"{node.func.id} has no meaning for a cell", f"use {', '.join(_FUNCTIONS)}")
    grid = table.grid
    names = {OWN: grid.ravel()}
    if base is not None and base.shape == grid.shape:
        names[BASE] = base.ravel()
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
    wrong = area.open & ~np.isfinite(values)
    if wrong.any():
        j, i = (int(at) for at in np.argwhere(wrong)[0])
        raise BadInput("this gives no number", where=cell_name(table, i, j), advice="check for a division by zero")
    return np.where(area.open, values, grid)
