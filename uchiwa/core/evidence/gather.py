"""Any formula over logs, gathered on the axes of a table."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.bins import Bins, Estimator, bin_samples
from uchiwa.core.evidence.surface import fit_surface
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.formulas.evaluation import Workings
from uchiwa.core.logs.log import FloatArray, IntArray, Log
from uchiwa.core.logs.signal import durations
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen


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
    every_x, every_y, every = np.concatenate(x), np.concatenate(y) if y else None, np.concatenate(values)
    every_break = np.concatenate(breaks)
    bins = bin_samples(table.x, table.y, every_x, every_y, every, np.concatenate(spans), every_break, estimator)
    if estimator == "surface" and every.size:
        bins = _by_surface(bins, table, every_x, every_y, every, every_break)
    return bins, every.size, total // 2


_LIKE_ERRORS = 0.05
"""Spread to which values are scaled before a surface is fitted, for it is made for error factors around 1."""


def _by_surface(
    bins: Bins, table: Table, x: FloatArray, y: FloatArray | None, values: FloatArray, breaks: IntArray
) -> Bins:
    """Bins whose means and standard errors are those of the least-squares surface, where the bins have samples."""
    middle, spread = float(values.mean()), float(values.std())
    if spread == 0.0:
        return bins
    unit = spread / _LIKE_ERRORS
    flat = replace(table, values=frozen(np.ones(table.values.shape)), zones=())
    surface = fit_surface(flat, x, y, 1.0 + (values - middle) / unit, breaks)
    seen = bins.samples > 0
    return replace(
        bins,
        mean=np.where(seen, middle + (surface.factor - 1.0) * unit, np.nan),
        standard_error=np.where(seen, surface.standard_error * unit, np.nan),
    )
