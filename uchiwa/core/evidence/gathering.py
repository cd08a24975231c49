"""Bins of anything: a formula gathered on the axes of a table, or on axes of one's own, and the figure asked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum
from itertools import pairwise
from typing import Annotated, Any, Literal, Self

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, field_validator

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.bins import Bins, Estimator
from uchiwa.core.evidence.gather import GatheredSamples, bins_of, gather_samples
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import FloatArray, IntArray, Log
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen
from uchiwa.core.typed_number import typed_number

_MOST_POINTS = 60
_SMALL = 32_000
Text = Annotated[str, Field(max_length=400)]


class Statistic(StrEnum):
    """The figure of each cell."""

    MEAN = "mean"
    LOWEST = "lowest"
    HIGHEST = "highest"
    SCATTER = "scatter"
    QUANTILE = "quantile"
    LAST = "last"
    COUNT = "count"
    TIME = "time"


class Gathering(BaseModel):
    """What is gathered, and how. All keys are optional.

    Attributes:
        value: formula of what is gathered.
        other: a second formula to hold it against; empty for none.
        against: without one, the logs that it is held against: of the round *before*, or of the *first*.
        table: id of the table that gives the axes; empty for axes of one's own.
        x_quantity, x_points, y_quantity, y_points: those: quantity ids, and breakpoints in their own units, separated by
            blanks; without a second quantity it is a curve.
        statistic: the figure of each cell.
        quantile: of the values, %, for that statistic.
        estimator: how a sample counts in the cells around it; all but mean, count and time count in the nearest cell.
        where: conditions that samples must meet, separated by semicolons.
        least_samples: a cell with fewer shows nothing.
        over: whose logs: this *round*, the one *before*, *all* rounds, or one log by its id.
        low, high: values at which the shading is full; empty for the lowest and the highest.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    value: Annotated[str, Field(min_length=1, max_length=400)] = "(lambda_measured / lambda_target - 1) * 100"
    other: Text = ""
    against: Literal["nothing", "before", "first"] = "nothing"
    table: Annotated[str, Field(max_length=80)] = ""
    x_quantity: Annotated[str, Field(max_length=60)] = ""
    x_points: Text = ""
    y_quantity: Annotated[str, Field(max_length=60)] = ""
    y_points: Text = ""
    statistic: Statistic = Statistic.MEAN
    quantile: Annotated[float, Field(ge=0, le=100)] = 95.0
    estimator: Estimator = "weighted"
    where: Annotated[str, Field(max_length=1200)] = ""
    least_samples: Annotated[float, Field(ge=0, le=1e6)] = 5
    over: Annotated[str, Field(pattern=r"^(round|before|all|\d{1,12})$")] = "round"
    low: Annotated[float, Field(allow_inf_nan=False)] | None = None
    high: Annotated[float, Field(allow_inf_nan=False)] | None = None

    @field_validator("low", "high", mode="before")
    @classmethod
    def _perhaps(cls, value: Any) -> Any:
        return None if isinstance(value, str) and not value.strip() else value

    @property
    def conditions(self) -> tuple[str, ...]:
        """The conditions, one by one."""
        return tuple(" ".join(word.split()) for word in self.where.split(";") if word.strip())

    @classmethod
    def read(cls, raw: Any, name: str = "gathering") -> Self:
        """A gathering from plain data.

        Raises:
            BadInput: says which key and why.
        """
        return policy_from(cls, raw, name)

    def sentence(self) -> str:
        """What is gathered, in a few words."""
        how = f"{self.quantile:g} % quantile" if self.statistic is Statistic.QUANTILE else self.statistic.value
        where = f" where {' and '.join(self.conditions)}" if self.conditions else ""
        return f"{how} of {self.value}{where}"


_NEAR_S = 0.5


@dataclass(frozen=True, eq=False)
class GatheredCells:
    """A gathering's cells; arrays of shape (rows, columns).

    Attributes:
        axes: a table over them, its values zero.
        figure: the statistic asked for; NaN where there is too little evidence.
        bins: everything else of each cell.
        samples: that were used.
        total: samples there were.
        left_out: by condition, samples that it was the first to leave out; and those without a value or off the axes.
    """

    axes: Table
    figure: FloatArray
    bins: Bins
    samples: GatheredSamples
    total: int
    left_out: dict[str, int]

    @property
    def cell(self) -> IntArray:
        """Flat index of the cell nearest to each sample."""
        return nearest_cell(self.axes, self.samples.x, self.samples.y)

    def cell_at(self, log: int, time: float) -> int | None:
        """Flat index of the cell that a moment of a log counted in; None where no sample near it was used.

        Args:
            log: its index among the logs.
            time: seconds in that log.
        """
        near = np.flatnonzero((self.samples.log == log) & (np.abs(self.samples.time - time) <= _NEAR_S))
        if near.size == 0:
            return None
        nearest = near[np.argmin(np.abs(self.samples.time[near] - time))]
        return int(self.cell[nearest])


def nearest_cell(axes: Table, x: FloatArray, y: FloatArray | None) -> IntArray:
    """Flat index of the nearest cell."""
    cell = axes.x.nearest(x)
    return cell if axes.y is None or y is None else axes.y.nearest(y) * axes.x.size + cell


def axes_of(asked: Gathering, calibration: Calibration) -> Table:
    """A table over the axes asked for; its values are zero.

    Raises:
        BadInput: there is no such table or quantity, or its breakpoints do not rise.
    """
    if asked.table:
        table = next((one for one in calibration.tables if one.id == asked.table), None)
        if table is None:
            raise BadInput(f"there is no table “{asked.table}”", advice="choose one of the calibration's, or own axes")
        return Table(table.id, table.title, "other", "1", table.x, table.y, frozen(np.zeros(table.values.shape)))
    x = _own_axis(asked.x_quantity, asked.x_points, "the first axis")
    y = _own_axis(asked.y_quantity, asked.y_points, "the second axis") if asked.y_quantity else None
    shape = (x.size,) if y is None else (y.size, x.size)
    return Table("own", "own axes", "other", "1", x, y, frozen(np.zeros(shape)))


def _own_axis(quantity: str, points: str, name: str) -> Axis:
    known = QUANTITIES.get(quantity)
    if known is None:
        raise BadInput("there is no table and no quantity to gather on", where=name, advice="choose one of them")
    numbers = [typed_number(word) for word in points.replace(";", " ").split()]
    if not 2 <= len(numbers) <= _MOST_POINTS or any(b <= a for a, b in pairwise(numbers)):
        raise BadInput(
            f"breakpoints are 2 to {_MOST_POINTS} numbers that rise", where=name, advice="write 1000 2000 3000, say"
        )
    return Axis(quantity, known.unit, frozen(numbers))


def gathered(
    logs: Sequence[Log], calibration: Calibration, asked: Gathering, value: str | None = None, book: Book = SHIPPED
) -> GatheredCells:
    """Gather a formula over logs.

    Args:
        logs: recognised.
        calibration: whose tables and constants formulas may look up.
        asked: what, where and how.
        value: another formula than the first.
        book: the computed channels that formulas may use.

    Raises:
        BadInput: a formula, a condition or an axis is wrong, or a log lacks a channel.
    """
    axes = axes_of(asked, calibration)
    if not logs:
        raise BadInput("there is no log to gather from", advice="accept one on Logs, or choose other logs")
    samples = gather_samples(logs, axes, value or asked.value, asked.conditions, Scope(calibration, None, book))
    bins = bins_of(samples, axes, asked.estimator)
    figure = _figure(asked, axes, samples, bins)
    enough = bins.samples >= max(asked.least_samples, 1e-9)
    return GatheredCells(axes, np.where(enough, figure, np.nan), bins, samples, samples.total, samples.left_out)


def _figure(asked: Gathering, axes: Table, samples: GatheredSamples, bins: Bins) -> FloatArray:
    match asked.statistic:
        case Statistic.MEAN:
            return bins.mean
        case Statistic.LOWEST:
            return bins.lowest
        case Statistic.HIGHEST:
            return bins.highest
        case Statistic.SCATTER:
            return bins.spread
        case Statistic.COUNT:
            return bins.samples
        case Statistic.TIME:
            return bins.dwell
        case Statistic.LAST:
            return _last(axes, samples)
        case _:
            return _quantile(axes, samples, asked.quantile / 100.0)


def _last(axes: Table, samples: GatheredSamples) -> FloatArray:
    """The newest value of each cell: logs in their order, samples in theirs."""
    found = np.full(axes.shape[0] * axes.shape[1], np.nan)
    found[nearest_cell(axes, samples.x, samples.y)] = samples.value
    return found.reshape(axes.shape)


def _quantile(axes: Table, samples: GatheredSamples, share: float) -> FloatArray:
    """A quantile of the values in each cell, between two values on a straight line."""
    cell = nearest_cell(axes, samples.x, samples.y)
    size = axes.shape[0] * axes.shape[1]
    by_value = np.argsort(samples.value)
    # Of small whole numbers numpy sorts a stable order by their digits, in one pass.
    small = cell[by_value].astype(np.int16 if size < _SMALL else np.int64)
    order = by_value[np.argsort(small, kind="stable")]
    values, cells = samples.value[order], cell[order]
    count = np.bincount(cells, minlength=size)
    start = np.concatenate(([0], np.cumsum(count)[:-1]))
    at = share * np.maximum(count - 1, 0)
    low = np.floor(at).astype(np.int64)
    part = at - low
    found = np.full(size, np.nan)
    seen = count > 0
    first = values[(start + low)[seen]]
    second = values[np.minimum(start + low + 1, start + np.maximum(count - 1, 0))[seen]]
    found[seen] = first * (1 - part[seen]) + second * part[seen]
    return found.reshape(axes.shape)
