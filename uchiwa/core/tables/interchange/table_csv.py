"""One table as comma-separated text: breakpoints along the edges, as a spreadsheet shows it."""

from __future__ import annotations

import csv
import io

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.spreadsheet import as_text
from uchiwa.core.tables.interchange.calibration_json import axis_of
from uchiwa.core.tables.table import Table, frozen


def dumps(table: Table) -> str:
    """The table as text: x breakpoints in the first line, each row led by its y breakpoint, lowest first.

    The corner says what is what: `value unit \\ x quantity [unit] \\ y quantity [unit]`.
    """
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="\n")
    y = f" \\ {table.y.quantity} [{table.y.unit}]" if table.y is not None else ""
    writer.writerow(
        [
            as_text(f"{table.id} [{table.unit}] \\ {table.x.quantity} [{table.x.unit}]{y}"),
            *map(repr, _plain(table.x.breakpoints)),
        ]
    )
    for j in range(table.shape[0]):
        head = repr(_plain(table.y.breakpoints)[j]) if table.y is not None else ""
        writer.writerow([head, *map(repr, _plain(table.grid[j]))])
    return buffer.getvalue()


def _plain(values: FloatArray) -> list[float | int]:
    return [int(value) if float(value).is_integer() else float(value) for value in values]


def loads(text: str, table: Table, name: str = "table.csv") -> Table:
    """A table with breakpoints and values of a text that `dumps` or a spreadsheet wrote.

    Args:
        table: what it is; its quantities, units and limits stay.

    Raises:
        BadInput: the text has another shape, or a cell is no number; says line and cell.
    """
    rows = [row for row in csv.reader(io.StringIO(text)) if any(cell.strip() for cell in row)]
    wanted = 2 if table.y is None else 3
    if len(rows) < wanted or len(rows[0]) < 3:
        raise BadInput("the text has too few lines or columns", where=name, advice="export the table to see the form")
    if table.y is None and len(rows) != 2:
        raise BadInput(f"a curve has one line of values, not {len(rows) - 1}", where=name, advice="give one")
    for number, row in enumerate(rows, 1):
        if len(row) != len(rows[0]):
            raise BadInput(
                f"this line has {len(row)} cells and the first has {len(rows[0])}",
                where=f"{name}, line {number}",
                advice="give every line one cell per breakpoint",
            )
    x = axis_of(table.x.quantity, table.x.unit, _numbers(rows[0][1:], f"{name}, line 1", 2), f"{name}, x")
    values = np.array([_numbers(row[1:], f"{name}, line {at}", 2) for at, row in enumerate(rows[1:], 2)])
    y = None
    if table.y is not None:
        heads = [_numbers(row[:1], f"{name}, line {at}", 1)[0] for at, row in enumerate(rows[1:], 2)]
        y = axis_of(table.y.quantity, table.y.unit, heads, f"{name}, y")
    return Table(
        table.id, table.title, table.role, table.unit, x, y, frozen(values if y is not None else values[0]),
        table.minimum, table.maximum, table.decimals,
    )  # fmt: skip


def _numbers(cells: list[str], where: str, first: int) -> list[float]:
    found = []
    for at, cell in enumerate(cells, first):
        try:
            value = float(cell)
            if not np.isfinite(value):
                raise ValueError
        except ValueError:
            raise BadInput(
                f"“{cell.strip()[:20]}” is not a number", where=f"{where}, cell {at}", advice="write one"
            ) from None
        found.append(value)
    return found
