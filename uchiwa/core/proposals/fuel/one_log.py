"""What one log gives to fuel evidence: its signals on one time base, before any delay is known."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from uchiwa.core.airflow.speed_density import logged_airflow
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import NO_TARGET, NOT_IN_USE, Limits, applies, rule_named
from uchiwa.core.evidence.delay import Delay, undelayed
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.evidence.regions import regions
from uchiwa.core.evidence.steadied import steadied
from uchiwa.core.evidence.transients import SLOW_TRIMS, WALL_FILM, film_signals, trim_signals
from uchiwa.core.formulas.computed import Book
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.fuel import banks
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.trusted import against_trusted
from uchiwa.core.tables.table import Calibration, Table


@dataclass(frozen=True, eq=False)
class OneLog:
    """One log's signals, ready for a mixture delay; arrays of shape (n,).

    Attributes:
        time: s.
        signals: every quantity on that time base.
        x, y: along the table's axes, free of their noise; `y` is None for a curve.
        reading: the measured mixture, its rails left out; None without a sensor.
        raw: the same with nothing left out.
        ratio: trusted air over the table's own, where that is what the table is held against.
        target: λ target.
        short_trim, long_trim: as fractions.
        overlay: of a live session, as a fraction; 0 without one.
        airflow: g/s, or None.
        own: samples that conditions of one's own leave out.
        changing: candidates of signals that show in the error only while conditions change.
        banks: how much more bank 2 asks for, or None.
        region: the `Region` of each sample.
        notes: what was left out altogether.
    """

    time: FloatArray
    signals: dict[str, FloatArray]
    x: FloatArray
    y: FloatArray | None
    target: FloatArray
    short_trim: FloatArray
    long_trim: FloatArray
    overlay: FloatArray
    region: IntArray
    own: list[tuple[str, BoolArray]]
    reading: FloatArray | None = None
    raw: FloatArray | None = None
    ratio: FloatArray | None = None
    airflow: FloatArray | None = None
    changing: dict[str, list[tuple[float, FloatArray]]] = field(default_factory=dict)
    banks: FloatArray | None = None
    notes: tuple[str, ...] = ()

    def read_under(self, delay: Delay) -> tuple[FloatArray, FloatArray]:
        """The mixture at the moment of its combustion, without and with what was read at the rail."""
        if self.reading is None or self.raw is None:
            raise TypeError("the log has no measured mixture")
        seconds = delay.seconds(self.airflow, self.time.shape)
        return undelayed(self.time, self.reading, seconds), undelayed(self.time, self.raw, seconds)


def _target(signals: dict[str, FloatArray], calibration: Calibration, policy: Policy, name: str) -> FloatArray | None:
    """λ target at each sample: logged, or looked up in the calibration's own table."""
    tables = calibration.by_role("lambda_target")
    if policy.target == "log" and ("lambda_target" in signals or not tables):
        return signals.get("lambda_target")
    if not tables:
        raise BadInput("the calibration has no λ target table", advice="take λ target from the log")
    table = tables[0]
    y = axis_values(table.y, signals, name) if table.y is not None else None
    looked_up = table.lookup(axis_values(table.x, signals, name), y)
    if (table.grid <= 0).any():
        without = table.with_grid((table.grid <= 0).astype(np.float64))
        y = y if table.y is not None else None
        looked_up = np.where(without.lookup(axis_values(table.x, signals, name), y) > 0, 0.0, looked_up)
    return looked_up


def _own_conditions(log: Workings, table: Table, policy: Policy) -> list[tuple[str, BoolArray]]:
    """What conditions of one's own leave out, after what was recorded while another table was in use."""
    own = [(text, ~log.condition(text)) for text in policy.where]
    if table.id in policy.in_use:
        own.insert(0, (NOT_IN_USE, ~log.condition(policy.in_use[table.id])))
    return own


def one_log(log: Log, calibration: Calibration, table: Table, policy: Policy, book: Book) -> OneLog:
    """A log's signals for the fuel error of a table.

    Raises:
        BadInput: a channel that is needed was not recorded, or a condition is wrong.
    """
    time, signals = on_one_base(log)
    workings = Workings(time, signals, Scope(calibration, None, book))
    zero = np.zeros(time.shape)
    x = steadied(time, axis_values(table.x, signals, log.name))
    y = steadied(time, axis_values(table.y, signals, log.name)) if table.y is not None else None
    region = regions(signals, calibration.constant("displacement"))
    if policy.source != "fuel":
        return OneLog(
            time, signals, x, y, np.ones(time.shape), zero, zero, zero, region,
            _own_conditions(workings, table, policy),
            ratio=against_trusted(policy.source, table, workings, calibration, log.name),
        )  # fmt: skip
    rails = applies(rule_named("rail"), policy.without, policy.also)
    measured = banks.mixture(time, signals, Limits(), rails=rails)
    short = banks.trim(signals, "short_term_trim") if policy.use_trims == "both" else None
    long = banks.trim(signals, "long_term_trim") if policy.use_trims in ("both", "long") else None
    _check(log.name, signals, measured is not None, short is not None or long is not None, policy)
    target = _target(signals, calibration, policy, log.name) if measured is not None else None
    if measured is not None and target is None:
        raise BadInput(
            "the log has no λ target to compare the measured mixture with", where=log.name, advice="record it as well"
        )
    own = _own_conditions(workings, table, policy)
    if target is not None:
        own.append((NO_TARGET, ~(target > 0) & ~np.isnan(target)))
        target = np.where(target > 0, target, np.nan)
    airflow = logged_airflow(signals, calibration)
    trims = [zero if one is None else one.values for one in (short, long)]
    overlay = np.nan_to_num(signals.get("fuel_overlay", zero)) / 100.0
    changing: dict[str, list[tuple[float, FloatArray]]] = {}
    if policy.transients == "auto":
        if measured is not None and airflow is not None and target is not None:
            changing[WALL_FILM] = film_signals(time, airflow, target)
        elif measured is None:
            changing[SLOW_TRIMS] = trim_signals(time, trims[0], trims[1])
    return OneLog(
        time, signals, x, y, target if target is not None else np.ones(time.shape), trims[0], trims[1], overlay, region, own,
        reading=None if measured is None else measured.values,
        raw=None if measured is None else measured.raw,
        airflow=airflow,
        changing=changing,
        banks=banks.difference(signals, policy.use_trims == "both", policy.use_trims in ("both", "long")),
        notes=tuple(note for one in (measured, short, long) if one is not None for note in one.notes),
    )  # fmt: skip


def _check(name: str, signals: dict[str, FloatArray], measured: bool, trims: bool, policy: Policy) -> None:
    """Whether a log can say anything of fuel under a policy.

    Raises:
        BadInput: it cannot.
    """
    if not measured and not trims:
        raise BadInput(
            "the log has neither a measured mixture nor fuel trims",
            where=name,
            advice="record λ from the wideband sensor, or the fuel trims",
        )
    if measured and policy.loop != "any" and "loop_state" not in signals:
        raise BadInput(
            f"only samples of {policy.loop} loop are asked for, and the log does not say when the loop was closed",
            where=name,
            advice="record the loop state, or let samples of any loop state count",
        )
    if measured:
        return
    if policy.loop == "open":
        raise BadInput(
            "the log has no measured mixture, and in open loop the trims say nothing",
            where=name,
            advice="let closed-loop samples count",
        )
    if "loop_state" not in signals:
        raise BadInput(
            "the log has no measured mixture and does not say when the loop was closed",
            where=name,
            advice="record the loop state with the trims",
        )
