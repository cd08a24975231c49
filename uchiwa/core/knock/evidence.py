"""Knock on the axes of a spark table: worst and mean retard, events, and how often they came while the engine was there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.coverage import dwell
from uchiwa.core.errors import BadInput
from uchiwa.core.gather import axis_values
from uchiwa.core.knock.events import Event, Sign, knock_events
from uchiwa.core.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.signal import durations, held, rate
from uchiwa.core.table import Table
from uchiwa.core.timebase import on_one_base

RUNNING = 400.0
SNAP = 80.0
"""Change of throttle, %/s, that counts as a snap."""
NEAR_S = 0.5
LIMITER = 120.0
"""rpm below the highest speed of a log at full throttle within which a limiter may be at work."""


@dataclass(frozen=True)
class Placed:
    """An event with where and how the engine was.

    Attributes:
        event: of its log.
        log: number of the log.
        i, j: its cell.
        speed, load: along the axes of the table.
        throttle, mixture, intake_air, spark, gear: NaN where not recorded.
        disturbed: why the moment itself can sound like knock: a snap of the throttle, a shift, the limiter; or empty.
    """

    event: Event
    log: int
    i: int
    j: int
    speed: float
    load: float
    throttle: float
    mixture: float
    intake_air: float
    spark: float
    gear: float
    disturbed: str


@dataclass(frozen=True, eq=False)
class Knock:
    """What logs say of knock on a table; arrays of shape (rows, columns).

    Attributes:
        names: of the logs.
        events: in order of log and time.
        dwell: s in each cell with the engine running.
        worst, mean: retard in degrees; mean over the time in the cell.
        count: events by cell.
        heard: whether any log has a channel that can tell knock (marks do not count).
        low_octane_s: seconds for which the controller's flag for bad fuel was set.
        spark: mean spark that was fired in each cell, NaN where unknown.
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

    @property
    def per_minute(self) -> FloatArray:
        """Events per minute in each cell; NaN where the engine never was."""
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.where(self.dwell > 0, self.count / self.dwell * 60.0, np.nan)


def gather_knock(logs: Sequence[Log], table: Table) -> Knock:
    """Events and retard of logs on a spark table's axes.

    Raises:
        BadInput: a log lacks a channel of the table's axes, or there is no log.
    """
    if not logs:
        raise BadInput("there is no log", advice="give at least one")
    shape = table.shape
    seconds, worst, weighted = np.zeros(shape), np.zeros(shape), np.zeros(shape)
    count, spark_sum, spark_time = np.zeros(shape, dtype=np.int64), np.zeros(shape), np.zeros(shape)
    events: list[Placed] = []
    heard, low = False, 0.0
    for number, log in enumerate(logs):
        time, signals = on_one_base(log)
        x = axis_values(table.x, signals, log.name)
        y = axis_values(table.y, signals, log.name) if table.y is not None else np.zeros(time.shape)
        inside = (signals["engine_speed"] > RUNNING) & np.isfinite(x) & np.isfinite(y) & table.x.covers(x)
        if table.y is not None:
            inside &= table.y.covers(y)
        i = table.x.nearest(np.nan_to_num(x))
        j = table.y.nearest(np.nan_to_num(y)) if table.y is not None else np.zeros(time.shape, dtype=np.int64)
        seconds += dwell(table, time, signals, signals["engine_speed"] > RUNNING)
        span = durations(time)
        retard = signals.get("knock_retard")
        heard |= any(one in signals for one in ("knock_retard", "knock_count", "knock_level"))
        if retard is not None:
            use = inside & np.isfinite(retard)
            np.maximum.at(worst, (j[use], i[use]), retard[use])
            np.add.at(weighted, (j[use], i[use]), (retard * span)[use])
        fired = signals.get("spark_advance")
        if fired is not None:
            use = inside & np.isfinite(fired)
            np.add.at(spark_sum, (j[use], i[use]), (fired * span)[use])
            np.add.at(spark_time, (j[use], i[use]), span[use])
        flag = signals.get("low_octane_flag")
        if flag is not None:
            low += float(span[flag > 0.5].sum())
        causes = _disturbances(time, signals)
        for event in knock_events(time, signals):
            at = event.index
            if not inside[at]:
                continue
            count[j[at], i[at]] += 1
            events.append(_placed(event, number, int(i[at]), int(j[at]), float(x[at]), float(y[at]), signals, causes))
    with np.errstate(divide="ignore", invalid="ignore"):
        mean = np.where(seconds > 0, weighted / seconds, 0.0)
        spark = np.where(spark_time > 0, spark_sum / spark_time, np.nan)
    return Knock(tuple(one.name for one in logs), tuple(events), seconds, worst, mean, count, heard, low, spark)


def _placed(
    event: Event,
    number: int,
    i: int,
    j: int,
    x: float,
    y: float,
    signals: dict[str, FloatArray],
    causes: list[tuple[str, BoolArray]],
) -> Placed:
    def told(quantity: str) -> float:
        values = signals.get(quantity)
        return float(values[event.index]) if values is not None else float("nan")

    disturbed = next((words for words, mask in causes if mask[event.index]), "") if event.sign is not Sign.MARK else ""
    return Placed(
        event, number, i, j, x, y, told("throttle_position"), told("lambda_measured"), told("intake_air_temperature"),
        told("spark_advance"), told("gear"), disturbed,
    )  # fmt: skip


def _disturbances(time: FloatArray, signals: dict[str, FloatArray]) -> list[tuple[str, BoolArray]]:
    """Moments that can sound like knock, each with its name."""
    causes: list[tuple[str, BoolArray]] = []
    throttle, gear, speed = (signals.get(one) for one in ("throttle_position", "gear", "engine_speed"))
    if gear is not None:
        shifted = np.concatenate([[False], np.diff(np.nan_to_num(gear)) != 0])
        causes.append(("a shift", held(time, shifted, NEAR_S) | held(-time[::-1], shifted[::-1], 0.2)[::-1]))
    if throttle is not None:
        snap = np.abs(np.nan_to_num(rate(time, throttle))) > SNAP
        causes.append(("a snap of the throttle", held(time, snap, NEAR_S)))
        if speed is not None:
            top = np.nanmax(speed) - LIMITER
            causes.append(("the limiter", held(time, (speed > max(top, 5000.0)) & (throttle > 80.0), NEAR_S)))
    return causes
