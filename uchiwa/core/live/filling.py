"""Cells that fill while a log is recorded: seconds at once, and errors as soon as their mixture can have been read."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

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
        touched, turn: the turn in which each cell has last changed, shape (rows, columns); and the last turn.
    """

    table: Table
    seconds: FloatArray = field(init=False)
    samples: FloatArray = field(init=False)
    total: FloatArray = field(init=False)
    done: int = 0
    ripe: int = 0
    problem: str = ""
    touched: NDArray[np.int64] = field(init=False)
    turn: int = 0
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
        self.touched = np.full(self.table.shape, self.turn)
        self.done = self.ripe = 0

    def seen(self, i: int, j: int) -> tuple[float, float, float]:
        """Seconds in a cell, samples that count, and their mean error in %, NaN without one."""
        samples = float(self.samples[j, i])
        mean = float(self.total[j, i]) / samples * 100.0 if samples else float("nan")
        return float(self.seconds[j, i]), samples, mean

    def follow(self, growth: Growth) -> bool:
        """Count what has come since; whether a cell has changed."""
        if growth.reading_number == self._reading and growth.size == self.done:
            return False
        self.turn += 1
        if growth.reading_number != self._reading:
            self._reading = growth.reading_number
            self._begin()
        if growth.size == self.done:
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

    def _count_seconds(self, growth: Growth) -> bool:
        """Count the time since each row until the next; the last row's is counted when there is a next."""
        first = max(0, self.done - 1)
        found = self._position.durations(growth, first)
        self.done = growth.size
        if isinstance(found, str):
            self.problem = f"the log has no {found}, an axis of the table"
            return False
        self.problem = ""
        i, j, seconds = found
        these = np.flatnonzero((seconds > 0) & warm_and_running(growth, first)[:-1])
        if not these.size:
            return False
        i, j = i[these], j[these]
        np.add.at(self.seconds, (j, i), seconds[these])
        self.touched[j, i] = self.turn
        return True

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
        seen = dict(signals)
        if "lambda_measured" in seen:
            seen["lambda_measured"] = _read_later(time[first:], signals)
        error = errors_of(seen, time.size - first)
        samples = Samples(time[first:], seen, Limits(), 1.0)
        left = np.zeros(inside.shape, dtype=np.bool_)
        for rule in _RULES:
            left |= rule.finds(samples)
        new = np.zeros(inside.shape, dtype=np.bool_)
        new[self.ripe - first : until - first] = True
        used = new & inside & ~left & np.isfinite(error)
        self.ripe = until
        if not used.any():
            return False
        i = self.table.x.nearest(x[used])
        j = self.table.y.nearest(y[used]) if y is not None and self.table.y is not None else np.zeros_like(i)
        np.add.at(self.samples, (j, i), 1.0)
        np.add.at(self.total, (j, i), error[used] - 1.0)
        self.touched[j, i] = self.turn
        return True


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


def errors_of(signals: dict[str, FloatArray], size: int) -> FloatArray:
    """e = (λm/λt)·(1 + s)·(1 + l)·(1 + overlay); NaN where it cannot be told; shape (size,).

    Args:
        signals: by quantity, the measured mixture at the moment of its combustion; shape (size,) each.
        size: number of rows.
    """
    zero = np.zeros(size)
    trims = (1 + signals.get("short_term_trim", zero) / 100.0) * (1 + signals.get("long_term_trim", zero) / 100.0)
    overlay = 1 + signals.get("fuel_overlay", zero) / 100.0
    if "lambda_measured" in signals and "lambda_target" in signals:
        target = np.where(signals["lambda_target"] > 0, signals["lambda_target"], np.nan)
        found: FloatArray = signals["lambda_measured"] / target * trims * overlay
        return found
    if "loop_state" in signals and ("short_term_trim" in signals or "long_term_trim" in signals):
        return np.where(signals["loop_state"] > 0.5, trims * overlay, np.nan)
    return np.full(size, np.nan)
