"""Any formula over logs, gathered on the axes of a table."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from uchiwa.core.bins import Bins, Estimator, bin_samples
from uchiwa.core.car import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.formulas.evaluation import Workings
from uchiwa.core.log import FloatArray, IntArray, Log
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.signal import durations
from uchiwa.core.table import Axis, Calibration, Table
from uchiwa.core.timebase import on_one_base
from uchiwa.core.units import convert


def axis_values(axis: Axis, signals: dict[str, FloatArray], name: str) -> FloatArray:
    """A log's values along an axis, in the axis's own unit.

    Raises:
        BadInput: the log does not have the quantity.
    """
    if axis.quantity not in signals:
        raise BadInput(
            f"the log has no {axis.title} ({axis.quantity}), an axis of the table",
            where=name,
            advice="record it, or leave this log out",
        )
    return convert(signals[axis.quantity], QUANTITIES[axis.quantity].unit, axis.unit)


def gather_formula(
    logs: Sequence[Log],
    calibration: Calibration,
    table: Table,
    value: str,
    where: Sequence[str] = (),
    estimator: Estimator = "weighted",
    car: CarFile | None = None,
    book: Book = SHIPPED,
) -> tuple[Bins, int, int]:
    """Bins of a formula's value on a table's axes, where all conditions hold.

    Args:
        logs: recognised.
        calibration: whose tables and constants the formulas may look up.
        table: gives the axes.
        value: formula of what is gathered.
        where: conditions that samples must meet.
        estimator: how a sample counts in the cells around it.
        car: whose constants formulas may look up.
        book: the computed channels that they may use.

    Returns:
        The bins, the number of samples used, and the number there were.
    """
    x: list[FloatArray] = []
    y: list[FloatArray] = []
    values: list[FloatArray] = []
    spans: list[FloatArray] = []
    breaks: list[IntArray] = []
    total = 0
    for log in logs:
        time, signals = on_one_base(log)
        workings = Workings(time, signals, calibration, car, book)
        here = np.asarray(workings.value(value), dtype=np.float64)
        at_x = axis_values(table.x, signals, log.name)
        at_y = axis_values(table.y, signals, log.name) if table.y is not None else None
        use = np.isfinite(here) & np.isfinite(at_x) & table.x.covers(at_x)
        if at_y is not None and table.y is not None:
            use &= np.isfinite(at_y) & table.y.covers(at_y)
        for text in where:
            use &= workings.condition(text)
        if at_y is not None:
            y.append(at_y[use])
        x.append(at_x[use])
        values.append(here[use])
        spans.append(durations(time)[use])
        breaks.append(np.cumsum(~use)[use].astype(np.int64) + total)
        total += 2 * time.size
    bins = bin_samples(
        table.x,
        table.y,
        np.concatenate(x),
        np.concatenate(y) if y else None,
        np.concatenate(values),
        np.concatenate(spans),
        np.concatenate(breaks),
        estimator,
    )
    return bins, sum(part.size for part in values), total // 2
