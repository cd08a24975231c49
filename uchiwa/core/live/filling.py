"""Cells that fill while a log is recorded: seconds at once, and errors as soon as their mixture can have been read."""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import RULES, Limits, Samples
from uchiwa.core.evidence.delay import Delay, undelayed
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.live.growth import Growth
from uchiwa.core.live.position import Position
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.tables.table import Table

_RULES = tuple(rule for rule in RULES if rule.usual and rule.id != "heat_soaked")
_READ = (
    "engine_speed", "manifold_pressure", "boost_pressure", "barometric_pressure", "pressure_ratio", "engine_load", "airflow",
    "airflow_frequency", "airflow_voltage", "cylinder_air", "throttle_position", "coolant_temperature", "lambda_measured",
    "lambda_target", "short_term_trim", "long_term_trim", "loop_state", "overrun_cut_active", "after_start_active",
    "injector_pulse", "fuel_overlay",
)  # fmt: skip
_OF_AXES = {
    "pressure_ratio": ("manifold_pressure", "boost_pressure", "barometric_pressure", "pressure_ratio"),
    "boost_pressure": ("manifold_pressure", "boost_pressure", "barometric_pressure"),
    "manifold_pressure": ("manifold_pressure", "boost_pressure", "barometric_pressure"),
}
"""What an axis may be worked out from, where it was not recorded."""
_LOOK_BACK_S = 4.0
_ERRORS_EVERY_S = 2.0
RIPE_S = 1.5
"""A sample's error is counted once the mixture that belongs to it must have come."""
_USUAL_DELAY = Delay(0.1, 1.0)
_LONGEST_STEP_S = 0.5
_RUNNING_RPM = 400.0


@dataclass
class Filling:
    """What each cell of a table has seen so far; arrays of shape (rows, columns).

    Attributes:
        table: whose cells.
        seconds: with the engine warm and running, counted at once.
        samples: that count for fuel.
        total: sum of their errors e − 1.
        done: rows whose seconds are counted.
        ripe: rows whose errors are.
        problem: why nothing can be placed on the table; empty if it can.
    """

    table: Table
    seconds: FloatArray = field(init=False)
    samples: FloatArray = field(init=False)
    total: FloatArray = field(init=False)
    done: int = 0
    ripe: int = 0
    problem: str = ""
    _reading: int = -1

    @property
    def _along(self) -> tuple[str, ...]:
        """Quantities that tell where the engine is."""
        axes = [axis.quantity for axis in (self.table.x, self.table.y) if axis is not None]
        return tuple(dict.fromkeys(one for axis in axes for one in _OF_AXES.get(axis, (axis,))))

    def __post_init__(self) -> None:
        self._begin()

    def _begin(self) -> None:
        self._position = Position(self.table)
        self.seconds, self.samples, self.total = (np.zeros(self.table.shape) for _ in range(3))
        self.done = self.ripe = 0

    @property
    def mean_percent(self) -> FloatArray:
        """Mean error of each cell, %; NaN without a sample."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.samples > 0, self.total / self.samples * 100.0, np.nan)

    def follow(self, growth: Growth) -> bool:
        """Count what has come since; whether a cell has changed."""
        if growth.reading_number != self._reading:
            self._reading = growth.reading_number
            self._begin()
        if growth.size - self.done < 1:
            return False
        changed = self._count_seconds(growth)
        return self._count_errors(growth) or changed

    def cells_of(self, growth: Growth, first: int) -> tuple[FloatArray, FloatArray | None, BoolArray]:
        """Readings along both axes from a row on, and where they lie on the table.

        Raises:
            BadInput: the log has no such channel.
        """
        signals = with_derived(growth.tail(first, self._along))
        x = axis_values(self.table.x, signals, growth.name)
        y = axis_values(self.table.y, signals, growth.name) if self.table.y is not None else None
        inside = np.isfinite(x) & self.table.x.covers(x)
        if y is not None and self.table.y is not None:
            inside &= np.isfinite(y) & self.table.y.covers(y)
        return x, y, inside

    def _add(self, grid: FloatArray, x: FloatArray, y: FloatArray | None, these: BoolArray, what: FloatArray) -> None:
        i = self.table.x.nearest(x[these])
        j = self.table.y.nearest(y[these]) if y is not None and self.table.y is not None else np.zeros_like(i)
        np.add.at(grid, (j, i), what[these])

    def _count_seconds(self, growth: Growth) -> bool:
        """Count the time since each row until the next; the last row's is counted when there is a next."""
        first, changed = max(0, self.done - 1), False
        warm = warm_and_running(growth, first).tolist()
        times = growth.time[first:].tolist()
        for number, (begins, ends) in enumerate(pairwise(times)):
            here = self._position.cell(growth, first + number)
            if isinstance(here, str):
                self.problem = f"the log has no {here}, an axis of the table"
                self.done = growth.size
                return False
            if here is not None and warm[number] and ends - begins <= _LONGEST_STEP_S:
                self.seconds[here[1], here[0]] += ends - begins
                changed = True
        self.problem = ""
        self.done = growth.size
        return changed

    def _count_errors(self, growth: Growth) -> bool:
        time = growth.time
        until = int(np.searchsorted(time, growth.seconds - RIPE_S))
        if until <= self.ripe or time[until] - time[self.ripe] < _ERRORS_EVERY_S:
            return False
        first = int(np.searchsorted(time, time[self.ripe] - _LOOK_BACK_S))
        signals = with_derived(growth.tail(first, _READ))
        try:
            x, y, inside = self.cells_of(growth, first)
        except BadInput:
            self.ripe = until
            return False
        error = errors_of(time[first:], signals)
        seen = dict(signals)
        if "lambda_measured" in seen:
            seen["lambda_measured"] = _read_later(time[first:], signals)
        samples = Samples(time[first:], seen, Limits(), 1.0)
        left = np.zeros(inside.shape, dtype=np.bool_)
        for rule in _RULES:
            left |= rule.finds(samples)
        new = np.zeros(inside.shape, dtype=np.bool_)
        new[self.ripe - first : until - first] = True
        used = new & inside & ~left & np.isfinite(error)
        self._add(self.samples, x, y, used, np.ones(used.shape))
        self._add(self.total, x, y, used, np.nan_to_num(error) - 1.0)
        self.ripe = until
        return bool(used.any())


def with_derived(signals: dict[str, FloatArray]) -> dict[str, FloatArray]:
    """With pressure ratio, boost and intake pressure, where they follow from what was recorded."""
    barometer, boost = signals.get("barometric_pressure"), signals.get("boost_pressure")
    if barometer is not None and boost is not None:
        signals.setdefault("manifold_pressure", boost + barometer)
    pressure = signals.get("manifold_pressure")
    if pressure is not None and barometer is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            signals.setdefault("pressure_ratio", pressure / barometer)
        signals.setdefault("boost_pressure", pressure - barometer)
    return signals


def warm_and_running(growth: Growth, first: int) -> BoolArray:
    """Where the engine runs, warm if that was recorded, from a row on."""
    signals = growth.tail(first, ("engine_speed", "coolant_temperature"))
    speed, coolant = signals.get("engine_speed"), signals.get("coolant_temperature")
    running = np.ones(growth.size - first, dtype=np.bool_) if speed is None else speed > _RUNNING_RPM
    return running if coolant is None else running & (coolant >= Limits().warm_coolant)


def _read_later(time: FloatArray, signals: dict[str, FloatArray]) -> FloatArray:
    """The mixture at the moment of its combustion, by a usual delay."""
    seconds = _USUAL_DELAY.seconds(signals.get("airflow"), time.shape)
    return undelayed(time, signals["lambda_measured"], seconds)


def errors_of(time: FloatArray, signals: dict[str, FloatArray]) -> FloatArray:
    """e = (λm/λt)·(1 + s)·(1 + l)·(1 + overlay), by a usual delay; NaN where it cannot be told."""
    zero = np.zeros(time.shape)
    trims = (1 + signals.get("short_term_trim", zero) / 100.0) * (1 + signals.get("long_term_trim", zero) / 100.0)
    overlay = 1 + signals.get("fuel_overlay", zero) / 100.0
    if "lambda_measured" in signals and "lambda_target" in signals:
        target = np.where(signals["lambda_target"] > 0, signals["lambda_target"], np.nan)
        found: FloatArray = _read_later(time, signals) / target * trims * overlay
        return found
    if "loop_state" in signals and ("short_term_trim" in signals or "long_term_trim" in signals):
        return np.where(signals["loop_state"] > 0.5, trims * overlay, np.nan)
    return np.full(time.shape, np.nan)
