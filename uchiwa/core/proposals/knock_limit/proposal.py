"""The level above which a sensor's noise counts as knock, from runs that are known not to knock."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.knock.events import Sign, knock_events
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration, Table

_RUNNING = 400.0


@dataclass(frozen=True)
class Flagged:
    """What a limit flags in some logs.

    Attributes:
        now: times the level rose over the present limit.
        then: over the proposed one.
        seconds: of running.
    """

    now: int
    then: int
    seconds: float


@dataclass(frozen=True)
class CaughtKnock:
    """Real knock, by another sign than the level, and how much of it a limit catches.

    Attributes:
        events: with a level on record.
        now, then: that the present and the proposed limit catch.
    """

    events: int
    now: int
    then: int


@dataclass(frozen=True, eq=False)
class ThresholdProposal:
    """A knock limit from safe runs; arrays of shape (rows, columns).

    Attributes:
        table: as it is, V.
        base: quantile of the level in safe runs; NaN where too few samples were there.
        samples: of safe runs in each cell.
        after: proposed limit.
        state: `changed`, `filled`, `kept`, `thin` or `pinned`.
        safe: what is flagged in the safe runs, where everything flagged is noise.
        caught: what is caught in the other logs.
        heard: samples of the safe runs, thinned, as (place along the first axis, level); shape (n, 2).
        policy: that it was made with.
    """

    table: Table
    base: FloatArray
    samples: IntArray
    after: FloatArray
    state: np.ndarray
    safe: Flagged
    caught: CaughtKnock
    heard: FloatArray
    policy: ThresholdPolicy

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.table.with_grid(self.after)


def threshold_proposal(
    safe: Sequence[Log],
    calibration: Calibration,
    table_id: str,
    policy: ThresholdPolicy,
    knocking: Sequence[Log] = (),
) -> ThresholdProposal:
    """A limit by engine speed (and cam angle, if the table has it) from the level in safe runs.

    In each cell the quantile of the level, times the margin. Cells that were not reached follow the cells that were,
    by speed: level rises with it. The other logs show whether real knock would still be heard.

    Args:
        safe: logs in which nothing knocks: spark known to be safe.
        calibration: with the table.
        table_id: of role knock_limit, V.
        policy: how.
        knocking: logs with real knock, told by retard or count.

    Raises:
        BadInput: there is no such table, or no safe log has the sensor's level, or a channel of its axes is wanting.
    """
    table = next((one for one in calibration.tables if one.id == table_id), None)
    if table is None or table.role != "knock_limit":
        known = ", ".join(one.id for one in calibration.by_role("knock_limit")) or "none"
        raise BadInput(f"“{table_id}” is not a table of knock limits", advice=f"those of this calibration are: {known}")
    levels, columns, rows, read = [], [], [], []
    for log in safe:
        told = _read(log, table)
        if told is None:
            continue
        read.append(told)
        columns.append(table.x.nearest(told.x))
        rows.append(table.y.nearest(told.y) if table.y is not None else np.zeros(told.x.shape, dtype=np.int64))
        levels.append(told.level)
    if not read:
        raise BadInput(
            "no safe log has the knock sensor's level", advice="record the level (V) in a run with mild spark"
        )
    level, i, j = np.concatenate(levels), np.concatenate(columns), np.concatenate(rows)
    base, samples = np.full(table.shape, np.nan), np.zeros(table.shape, dtype=np.int64)
    np.add.at(samples, (j, i), 1)
    for b, a in zip(*np.nonzero(samples >= policy.least), strict=True):
        base[b, a] = np.quantile(level[(j == b) & (i == a)], policy.quantile / 100.0)
    if not np.isfinite(base).any():
        raise BadInput(
            "no cell of the table was held for long enough in the safe logs",
            advice=f"each needs {policy.least} samples: drive longer",
        )
    after, state = _limits(table, base, policy)
    proposed = table.with_grid(after)
    flagged = Flagged(
        sum(_rises(one, table) for one in read),
        sum(_rises(one, proposed) for one in read),
        float(sum(one.seconds for one in read)),
    )
    caught = _caught(knocking, table, proposed)
    return ThresholdProposal(table, base, samples, after, state, flagged, caught, _thinned(read), policy)


def _limits(table: Table, base: FloatArray, policy: ThresholdPolicy) -> tuple[FloatArray, np.ndarray]:
    """The limits, and how each came about; rows without any reached cell take the whole table's trend."""
    whole = np.nanmax(np.where(np.isfinite(base), base, -np.inf), axis=0)
    known = np.flatnonzero(np.isfinite(whole))
    trend = np.interp(np.arange(table.shape[1]), known, whole[known])
    filled = np.empty(table.shape)
    for j in range(table.shape[0]):
        own = np.flatnonzero(np.isfinite(base[j]))
        filled[j] = np.interp(np.arange(table.shape[1]), own, base[j, own]) if own.size else trend
    fine = 10.0**table.decimals
    raised = np.ceil(filled * policy.margin * fine - 1e-9) / fine
    pinned = cells_mask(policy.pinned, table.shape, default=False)
    open_: BoolArray = cells_mask(policy.only, table.shape, default=True) & ~pinned
    after = np.where(open_, table.rounded(raised), table.grid)
    state = np.full(table.shape, "changed", dtype=object)
    state[~np.isfinite(base)] = "filled"
    state[np.abs(after - table.grid) < 0.5 / fine] = "kept"
    state[pinned] = "pinned"
    return after, state


@dataclass(frozen=True, eq=False)
class _Read:
    time: FloatArray
    x: FloatArray
    y: FloatArray
    level: FloatArray
    seconds: float


def _read(log: Log, table: Table) -> _Read | None:
    """Level and place of a log's samples with the engine running; None if it has no level."""
    time, signals = on_one_base(log)
    if "knock_level" not in signals:
        return None
    x = axis_values(table.x, signals, log.name)
    y = axis_values(table.y, signals, log.name) if table.y is not None else np.zeros(time.shape)
    level = convert(signals["knock_level"], QUANTITIES["knock_level"].unit, table.unit)
    use = (signals["engine_speed"] > _RUNNING) & np.isfinite(level) & np.isfinite(x) & np.isfinite(y)
    if int(use.sum()) < 2:
        return None
    step = float(np.median(np.diff(time)))
    return _Read(time[use], x[use], y[use], level[use], float(use.sum()) * step)


_DRAWN = 900


def _thinned(read: Sequence[_Read]) -> FloatArray:
    """Some samples of every log, the loudest of each stretch, so that no rise of the level is lost."""
    x, level = np.concatenate([one.x for one in read]), np.concatenate([one.level for one in read])
    step = max(1, x.size // _DRAWN)
    starts = np.arange(0, x.size, step)
    loudest = np.array([at + int(np.argmax(level[at : at + step])) for at in starts])
    return np.column_stack([x[loudest], level[loudest]])


def _rises(read: _Read, table: Table) -> int:
    """Times at which the level rises over a limit; within a quarter of a second it is once."""
    over = read.level > table.lookup(read.x, read.y if table.y is not None else None)
    at = read.time[over & ~np.concatenate([[False], over[:-1]])]
    return int((np.diff(at, prepend=-np.inf) > 0.25).sum()) if at.size else 0


def _caught(logs: Sequence[Log], table: Table, proposed: Table) -> CaughtKnock:
    events = now = then = 0
    for log in logs:
        time, signals = on_one_base(log)
        level = signals.get("knock_level")
        if level is None:
            continue
        x = axis_values(table.x, signals, log.name)
        y = axis_values(table.y, signals, log.name) if table.y is not None else None
        level = convert(level, QUANTITIES["knock_level"].unit, table.unit)
        told = {one: values for one, values in signals.items() if one not in ("knock_level", "knock_limit")}
        for event in knock_events(time, told):
            if event.sign is Sign.MARK:
                continue
            at = int(np.searchsorted(time, event.at - 1e-9))
            near = slice(max(at - 2, 0), at + 2)
            if not np.isfinite(level[near]).any():
                continue
            place = (x[near], y[near] if y is not None else None)
            events += 1
            now += bool(np.nanmax(level[near] - table.lookup(*place)) > 0)
            then += bool(np.nanmax(level[near] - proposed.lookup(*place)) > 0)
    return CaughtKnock(events, now, then)
