"""Any formula over logs, gathered on the axes of a table."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.bins import Bins, Estimator, Samples, bin_samples
from uchiwa.core.evidence.surface import fit_surface
from uchiwa.core.formulas.evaluation import NOTHING_ELSE, Scope, Workings
from uchiwa.core.logs.log import FloatArray, IntArray, Log
from uchiwa.core.logs.signal import durations
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Axis, Table, frozen


def axis_values(axis: Axis, signals: Mapping[str, FloatArray], name: str) -> FloatArray:
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


NO_VALUE, OFF_AXES = "no value", "off the axes"


@dataclass(frozen=True, eq=False)
class GatheredSamples:
    """Samples with a value and a place on a table's axes, where all conditions hold; arrays of shape (n,).

    Attributes:
        names: of the logs.
        log: index of the log each sample is from.
        time: seconds in its log.
        x, y: where it lies, in the axes' units; `y` is None for a curve.
        value: of the formula.
        duration: seconds it stands for.
        breaks: a number that changes wherever samples are not neighbours in time.
        total: samples there were.
        left_out: samples by what left them out first: a condition, no value, or off the axes.
    """

    names: tuple[str, ...]
    log: IntArray
    time: FloatArray
    x: FloatArray
    y: FloatArray | None
    value: FloatArray
    duration: FloatArray
    breaks: IntArray
    total: int
    left_out: dict[str, int]


def gather_samples(
    logs: Sequence[Log], table: Table, value: str, where: Sequence[str] = (), scope: Scope = NOTHING_ELSE
) -> GatheredSamples:
    """Samples of a formula's value on a table's axes, where all conditions hold; `bins_of` makes bins of them.

    Args:
        logs: recognised.
        table: gives the axes.
        value: formula of what is gathered.
        where: conditions that samples must meet.
        scope: what the formulas may name beside recorded channels.
    """
    x: list[FloatArray] = []
    y: list[FloatArray] = []
    values: list[FloatArray] = []
    spans: list[FloatArray] = []
    times: list[FloatArray] = []
    breaks: list[IntArray] = []
    total = 0
    left_out = dict.fromkeys((NO_VALUE, OFF_AXES, *where), 0)
    for log in logs:
        time, signals = on_one_base(log)
        workings = Workings(time, signals, scope)
        here = np.asarray(workings.value(value), dtype=np.float64)
        at_x = axis_values(table.x, signals, log.name)
        at_y = axis_values(table.y, signals, log.name) if table.y is not None else None
        use = np.isfinite(here)
        left_out[NO_VALUE] += int(time.size - use.sum())
        inside = np.isfinite(at_x) & table.x.covers(at_x)
        if at_y is not None and table.y is not None:
            inside &= np.isfinite(at_y) & table.y.covers(at_y)
        left_out[OFF_AXES] += int((use & ~inside).sum())
        use &= inside
        for text in where:
            holds = workings.condition(text)
            left_out[text] += int((use & ~holds).sum())
            use &= holds
        if at_y is not None:
            y.append(at_y[use])
        x.append(at_x[use])
        values.append(here[use])
        times.append(time[use])
        spans.append(durations(time)[use])
        breaks.append(np.cumsum(~use)[use].astype(np.int64) + 2 * total)
        total += time.size
    return GatheredSamples(
        tuple(log.name for log in logs),
        np.repeat(np.arange(len(x)), [one.size for one in x]).astype(np.int64),
        np.concatenate(times),
        np.concatenate(x),
        np.concatenate(y) if y else None,
        np.concatenate(values),
        np.concatenate(spans),
        np.concatenate(breaks),
        total,
        left_out,
    )


def bins_of(samples: GatheredSamples, table: Table, estimator: Estimator) -> Bins:
    """Bins of gathered samples on the axes of a table."""
    placed = Samples(samples.x, samples.y, samples.value, samples.duration, samples.breaks)
    bins = bin_samples(table.x, table.y, placed, estimator)
    return _by_surface(bins, table, placed) if estimator == "surface" and samples.value.size else bins


_LIKE_ERRORS = 0.05
"""Spread to which values are scaled before a surface is fitted, for it is made for error factors around 1."""


def _by_surface(bins: Bins, table: Table, samples: Samples) -> Bins:
    """Bins whose means and standard errors are those of the least-squares surface, where the bins have samples."""
    values = samples.value
    middle, spread = float(values.mean()), float(values.std())
    if spread == 0.0:
        return bins
    unit = spread / _LIKE_ERRORS
    flat = replace(table, values=frozen(np.ones(table.values.shape)), zones=())
    surface = fit_surface(flat, replace(samples, value=1.0 + (values - middle) / unit))
    seen = bins.samples > 0
    return replace(
        bins,
        mean=np.where(seen, middle + (surface.factor - 1.0) * unit, np.nan),
        standard_error=np.where(seen, surface.standard_error * unit, np.nan),
    )
