"""Knock on the axes of a spark table: worst and mean retard, events, and how often they came while the engine was there."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.briefs.coverage import dwell
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.knock.events import Event, Sign, log_events
from uchiwa.core.knock.retard import LEARNED, total_retard
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.recognition.doubt import ask
from uchiwa.core.logs.signal import durations, held, rate
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.tables.table import Axis, Table

RUNNING = 400.0
SNAP = 80.0
"""Change of throttle, %/s, that counts as a snap."""
NEAR_S = 0.5
LIMITER_FALL = -600.0
"""Fall of engine speed, rpm/s, with the throttle open, that only a limiter's cut explains."""
LIMITER_ABOVE = 3000.0
"""Engine speed from which a limiter may be at work, rpm."""
_OPEN_THROTTLE = 80.0
_BEFORE_S = 0.2
_PLACED_WITHIN_S = 1.0


class Disturbance(StrEnum):
    """What can sound like knock."""

    SHIFT = "a shift"
    SNAP = "a snap of the throttle"
    LIMITER = "the limiter"


@dataclass(frozen=True)
class Placed:
    """An event with where and how the engine was.

    Attributes:
        event: of its log.
        log: number of the log.
        i, j: its nearest cell.
        x, y: where it lies along the table's axes, in their units; `y` is 0 for a curve.
        speed: rpm.
        throttle, mixture, intake_air, spark, gear: NaN where not recorded.
        disturbed: what makes the moment itself sound like knock, or None.
    """

    event: Event
    log: int
    i: int
    j: int
    x: float
    y: float
    speed: float
    throttle: float
    mixture: float
    intake_air: float
    spark: float
    gear: float
    disturbed: Disturbance | None = None


@dataclass(frozen=True, eq=False)
class Knock:
    """What logs say of knock on a table; arrays of shape (rows, columns).

    Attributes:
        names: of the logs.
        events: in order of log and time.
        dwell: s in each cell with the engine running.
        worst, mean: retard in degrees, with what the controller had learned; mean over the time in the cell.
        learned: the most that the controller had learned to hold back at points whose lookup makes use of the cell, degrees.
        count: events by cell, without those at which only something learned was held back: that stays whatever the spark.
        heard: whether any log has a channel that can tell knock (marks do not count).
        low_octane_s: seconds for which the controller's flag for bad fuel was set.
        spark: mean spark that was fired in each cell, NaN where unknown.
        unplaced: moments (log, s) of events that lie nowhere on the table, for an axis was not recorded then.
    """

    names: tuple[str, ...]
    events: tuple[Placed, ...]
    dwell: FloatArray
    worst: FloatArray
    mean: FloatArray
    count: IntArray
    heard: bool
    low_octane_s: float
    spark: FloatArray
    unplaced: tuple[tuple[int, float], ...] = ()
    learned: FloatArray | None = None

    @property
    def per_minute(self) -> FloatArray:
        """Events per minute in each cell; NaN where the engine never was."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(self.dwell > 0, self.count / self.dwell * 60.0, np.nan)


def gather_knock(logs: Sequence[Log], table: Table) -> Knock:
    """Events and retard of logs on a spark table's axes.

    Raises:
        BadInput: a log lacks a channel of the table's axes, or there is no log.
        DoubtError: a channel of the axes is in doubt.
    """
    if not logs:
        raise BadInput("there is no log", advice="give at least one")
    axes = {axis.quantity for axis in (table.x, table.y) if axis is not None}
    if axes & {"pressure_ratio", "boost_pressure"}:
        axes |= {"manifold_pressure", "barometric_pressure"}
    ask(logs, axes)
    found = _Found(table)
    for number, log in enumerate(logs):
        found.add(number, log)
    return found.knock(tuple(one.name for one in logs))


class _Found:
    """What logs say of a spark table, gathered log by log."""

    def __init__(self, table: Table) -> None:
        self.table = table
        shape = table.shape
        self.seconds, self.worst, self.weighted, self.learned = (np.zeros(shape) for _ in range(4))
        self.spark_sum, self.spark_time = np.zeros(shape), np.zeros(shape)
        self.count = np.zeros(shape, dtype=np.int64)
        self.events: list[Placed] = []
        self.unplaced: list[tuple[int, float]] = []
        self.heard, self.low = False, 0.0

    def add(self, number: int, log: Log) -> None:
        """A log, by its number among the others."""
        table = self.table
        time, signals = on_one_base(log)
        x = axis_values(table.x, signals, log.name)
        y = axis_values(table.y, signals, log.name) if table.y is not None else np.zeros(time.shape)
        running = signals["engine_speed"] > RUNNING
        inside = running & np.isfinite(x) & np.isfinite(y)
        i = table.x.nearest(np.nan_to_num(x))
        j = table.y.nearest(np.nan_to_num(y)) if table.y is not None else np.zeros(time.shape, dtype=np.int64)
        self.seconds += dwell(table, time, signals, running)
        self.heard |= any(one in signals for one in ("knock_retard", LEARNED, "knock_count", "knock_level"))
        if LEARNED in signals:
            _raise_between(self.learned, table, x, y, np.where(inside, signals[LEARNED], np.nan))
        self._cells(signals, durations(time), inside, j, i)
        self._events(number, log, _Place(table.x, table.y, time, x, y, signals), _disturbances(time, signals))

    def _cells(
        self, signals: Mapping[str, FloatArray], span: FloatArray, inside: BoolArray, j: IntArray, i: IntArray
    ) -> None:
        """Retard and spark by cell, and the seconds on low-octane tables."""
        retard, fired, flag = total_retard(signals), signals.get("spark_advance"), signals.get("low_octane_flag")
        if retard is not None:
            use = inside & np.isfinite(retard)
            np.maximum.at(self.worst, (j[use], i[use]), retard[use])
            np.add.at(self.weighted, (j[use], i[use]), (retard * span)[use])
        if fired is not None:
            use = inside & np.isfinite(fired)
            np.add.at(self.spark_sum, (j[use], i[use]), (fired * span)[use])
            np.add.at(self.spark_time, (j[use], i[use]), span[use])
        if flag is not None:
            self.low += float(span[flag > 0.5].sum())

    def _events(self, number: int, log: Log, place: _Place, causes: list[tuple[Disturbance, BoolArray]]) -> None:
        for event in log_events(log):
            if place.told("engine_speed", event.at) <= RUNNING:
                continue
            placed = _placed(event, number, place, causes)
            if placed is None:
                self.unplaced.append((number, event.at))
                continue
            self.count[placed.j, placed.i] += event.sign is not Sign.LEARNED
            self.events.append(placed)

    def knock(self, names: tuple[str, ...]) -> Knock:
        """All of it."""
        with np.errstate(divide="ignore", invalid="ignore"):
            mean = np.where(self.seconds > 0, self.weighted / self.seconds, 0.0)
            spark = np.where(self.spark_time > 0, self.spark_sum / self.spark_time, np.nan)
        return Knock(
            names, tuple(self.events), self.seconds, self.worst, mean, self.count, self.heard, self.low, spark,
            tuple(self.unplaced), self.learned,
        )  # fmt: skip


_MAKES_USE = 0.05


def _raise_between(highest: FloatArray, table: Table, x: FloatArray, y: FloatArray, values: FloatArray) -> None:
    """Raise every cell to the highest of the values at points whose lookup rests on it by more than a twentieth."""
    use = values > 0
    i, along = table.x.place(x[use])
    j, upward = table.y.place(y[use]) if table.y is not None else (np.zeros_like(i), np.zeros(i.shape))
    for right in (0, 1):
        for up in (0, 1) if table.y is not None else (0,):
            weight = (along if right else 1.0 - along) * (upward if up else 1.0 - upward)
            here = weight > _MAKES_USE
            np.maximum.at(highest, (j[here] + up, i[here] + right), values[use][here])


@dataclass(frozen=True, eq=False)
class _Place:
    """Where and how the engine was at any moment of a log."""

    x_axis: Axis
    y_axis: Axis | None
    time: FloatArray
    x: FloatArray
    y: FloatArray
    signals: dict[str, FloatArray]

    def at(self, values: FloatArray, moment: float) -> float:
        """A signal at a moment: between its samples, or the nearest one within a second; NaN if there is none."""
        first, last = np.searchsorted(self.time, [moment - _PLACED_WITHIN_S, moment + _PLACED_WITHIN_S])
        time, near = self.time[first:last], values[first:last]
        known = np.isfinite(near)
        return float(np.interp(moment, time[known], near[known])) if known.any() else float("nan")

    def told(self, quantity: str, moment: float) -> float:
        """A quantity at a moment; NaN if it was not recorded."""
        values = self.signals.get(quantity)
        return float("nan") if values is None else self.at(values, moment)

    def number(self, moment: float) -> int:
        """The sample nearest to a moment."""
        after = int(np.searchsorted(self.time, moment))
        near = [one for one in (after - 1, after) if 0 <= one < self.time.size]
        return min(near, key=lambda one: abs(float(self.time[one]) - moment))


def _placed(event: Event, log: int, place: _Place, causes: list[tuple[Disturbance, BoolArray]]) -> Placed | None:
    """An event with its place; None if an axis is not known there."""
    x, y = place.at(place.x, event.at), place.at(place.y, event.at)
    if not (np.isfinite(x) and np.isfinite(y)):
        return None
    i = int(place.x_axis.nearest(np.array([x]))[0])
    j = int(place.y_axis.nearest(np.array([y]))[0]) if place.y_axis is not None else 0
    number = place.number(event.at)
    disturbed = (
        next((cause for cause, mask in causes if mask[number]), None)
        if event.sign not in (Sign.MARK, Sign.LEARNED)
        else None
    )
    return Placed(
        event, log, i, j, x, y,
        speed=place.told("engine_speed", event.at),
        throttle=place.told("throttle_position", event.at),
        mixture=place.told("lambda_measured", event.at),
        intake_air=place.told("intake_air_temperature", event.at),
        spark=place.told("spark_advance", event.at),
        gear=place.told("gear", event.at),
        disturbed=disturbed,
    )  # fmt: skip


def _disturbances(time: FloatArray, signals: dict[str, FloatArray]) -> list[tuple[Disturbance, BoolArray]]:
    """Moments that can sound like knock, each with its cause."""
    causes: list[tuple[Disturbance, BoolArray]] = []
    throttle, gear, speed = (signals.get(one) for one in ("throttle_position", "gear", "engine_speed"))
    if gear is not None:
        shifted = np.concatenate([[False], np.diff(np.nan_to_num(gear)) != 0])
        causes.append((Disturbance.SHIFT, _around(time, shifted)))
    if throttle is not None:
        snap = np.abs(np.nan_to_num(rate(time, throttle))) > SNAP
        causes.append((Disturbance.SNAP, held(time, snap, NEAR_S)))
        if speed is not None:
            causes.append((Disturbance.LIMITER, _around(time, limiter_cuts(time, throttle, speed))))
    return causes


def limiter_cuts(time: FloatArray, throttle: FloatArray, speed: FloatArray) -> BoolArray:
    """Where the limiter cuts: engine speed falls with the throttle held open, as nothing else makes it; shape (n,).

    That a moment is the fastest of the log says nothing: a pull that ends at 6000 rpm has met no limiter.
    """
    opened = throttle > _OPEN_THROTTLE
    still = ~held(time, ~opened, NEAR_S) & opened
    cut: BoolArray = still & (speed > LIMITER_ABOVE) & (np.nan_to_num(rate(time, speed, 0.15)) < LIMITER_FALL)
    return cut


def _around(time: FloatArray, active: BoolArray) -> BoolArray:
    """A mask with what follows it within half a second and comes before it within a fifth."""
    return held(time, active, NEAR_S) | held(-time[::-1], active[::-1], _BEFORE_S)[::-1]
