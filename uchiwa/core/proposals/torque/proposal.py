"""Spark put in by torque: a degree at a time, never near knock, never far from what is known to be safe."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.knock.evidence import Knock, Placed, gather_knock
from uchiwa.core.knock.judgement import Cluster, clusters
from uchiwa.core.knock.known import JudgedKnock, heard_in, knock_limits
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.chosen_cells import Cell, cells_mask
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import counts_as_real, spark_table
from uchiwa.core.proposals.torque.decision import Column, Decision, decide
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.pulls.gain import Gains, gains
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.repeat import Repeatability, repeatability
from uchiwa.core.pulls.road import RoadLoad
from uchiwa.core.pulls.runs import Bands, bands_of
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.orientation import laid_by_speed
from uchiwa.core.tables.table import Axis, Calibration, Table

_RAN = 0.25
"""Share of a column's samples from which a row counts as run."""


@dataclass(frozen=True, eq=False)
class TorqueProposal:
    """A spark table with spark put in where it makes torque; `after` and `state` of shape (rows, columns).

    Attributes:
        table: as it is.
        pulls: the runs that were compared, all measured alike.
        bands: the runs on the columns of the table.
        repeats: how well they repeat.
        gains: what a degree is worth.
        knock, judged: what was heard.
        decisions: one for each column that was run.
        policy: that it was made with.
        after: proposed values.
        state: `changed`, `filled`, `pinned` or `kept`.
        turned: whether engine speed lies along the table's rows; `column` of a decision then counts these.
    """

    table: Table
    pulls: tuple[Pull, ...]
    bands: Bands
    repeats: Repeatability
    gains: Gains
    knock: Knock
    judged: tuple[Cluster, ...]
    decisions: tuple[Decision, ...]
    policy: TorquePolicy
    after: FloatArray
    state: np.ndarray
    turned: bool = False

    def speed_at(self, i: int, j: int) -> int:
        """The breakpoint of engine speed that a cell [i, j] belongs to: the `column` of its decision."""
        return j if self.turned else i

    def cell_of(self, decision: Decision) -> tuple[int, int]:
        """The cell [i, j] in which a decision's runs lie."""
        flat, _ = laid_by_speed(self.table)
        row = int(flat.y.nearest(np.array([decision.load]))[0]) if flat.y is not None else 0
        return (row, decision.column) if self.turned else (decision.column, row)

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.table.with_grid(self.after)


def torque_proposal(
    logs: Sequence[Log],
    calibration: Calibration,
    table_id: str,
    policy: TorquePolicy,
    load: RoadLoad | None = None,
    safer: Sequence[Log] = (),
) -> TorqueProposal:
    """Degrees in and out of a spark table by the torque and the knock of pulls.

    Raises:
        BadInput: there is no such table, no log holds a pull with torque, or one lacks a channel of the table's axes.
    """
    table = spark_table(calibration, table_id)
    heard = gather_knock(logs, table)
    judged = clusters(heard, table, gather_knock(safer, table) if safer else None)
    return torque_from(logs, table, PullConditions(calibration.constant("displacement"), load), (heard, judged), policy)


@dataclass(frozen=True)
class PullConditions:
    """With what pulls were run.

    Attributes:
        displacement: L, if it is known.
        load: of the road; None if nothing is known of it.
        hidden: (log, pull number) of pulls that are not to count.
    """

    displacement: float | None
    load: RoadLoad | None
    hidden: frozenset[tuple[int, int]] = frozenset()


def torque_from(
    logs: Sequence[Log],
    table: Table,
    ran: PullConditions,
    knocked: tuple[Knock, tuple[Cluster, ...]],
    policy: TorquePolicy,
) -> TorqueProposal:
    """The same from what has been gathered: `knocked` is the knock of the logs, and how it was judged.

    Raises:
        BadInput: no log holds a pull with torque.
    """
    (heard, judged), displacement = knocked, ran.displacement
    numbered = [
        (index, pull)
        for index, log in enumerate(logs)
        for pull in pulls_of(log, ran.load)
        if (index, pull.number) not in ran.hidden and pull.known.any()
    ]
    if not numbered:
        raise BadInput(
            "no log holds a pull with torque",
            advice="send a dyno file with engine speed and torque, or a road log of a full-load pull with road speed",
        )
    flat, turned = laid_by_speed(table)
    speeds = convert(flat.x.breakpoints, flat.x.unit, QUANTITIES[flat.x.quantity].unit)
    everything = bands_of([pull for _, pull in numbered], speeds, displacement)
    pulls = comparable([pull for _, pull in numbered])
    bands = bands_of(pulls, speeds, displacement)
    repeats = repeatability(bands)
    run = np.flatnonzero(np.isfinite(bands.torque).any(axis=0))
    loads, rows = _loads(flat, pulls, bands)
    present = np.full(speeds.shape, np.nan)
    present[run] = flat.lookup(flat.x.breakpoints[run], loads[run] if flat.y is not None else None)
    told = gains(bands, repeats, present)
    noise = KnockPolicy(noise=policy.noise, real=policy.real)
    real = [_turned(event, turned) for cluster in judged if counts_as_real(cluster, noise) for event in cluster.events]
    excused = [event for cluster in judged if cluster.number in policy.noise for event in cluster.events]
    clean_or_not = {
        int(column): heard_in(
            int(column), numbered, everything, JudgedKnock(real, excused), (flat, float(present[column]))
        )
        for column in run
    }
    limits = knock_limits(speeds, present, {column: (clean, low) for column, (clean, low, _) in clean_or_not.items()})
    decisions = [
        decide(
            Column(column, float(speeds[column]), float(loads[column]), float(present[column])),
            told.bands[column],
            there,
            float(limits[column]),
            policy,
        )
        for column, there in clean_or_not.items()
    ]
    knocks = {cell for cluster in judged if counts_as_real(cluster, noise) for cell in cluster.cells}
    after, state = _applied((flat, turned), decisions, rows, policy, knocks)
    if turned:
        after, state = after.T.copy(), state.T.copy()
    return TorqueProposal(
        table, pulls, bands, repeats, told, heard, judged, tuple(decisions), policy, after, state, turned
    )  # fmt: skip


def _turned(event: Placed, turned: bool) -> Placed:
    return replace(event, i=event.j, j=event.i, x=event.y, y=event.x) if turned else event


def comparable(pulls: Sequence[Pull]) -> tuple[Pull, ...]:
    """The pulls of the kind of which there are most, a dyno's first: torque of different kinds cannot be compared."""
    kinds = [pull.measured for pull in pulls]
    best = max(dict.fromkeys(kinds), key=lambda kind: (kinds.count(kind), kind == "dyno"))
    return tuple(pull for pull in pulls if pull.measured == best)


def _loads(table: Table, pulls: Sequence[Pull], bands: Bands) -> tuple[FloatArray, BoolArray]:
    """Where along the second axis the runs went through each column, and the cells they went through.

    Returns:
        The median load of their samples, shape (columns,), and which cells are nearest to a good part of them, shape
        (rows, columns).
    """
    shape = table.shape
    if table.y is None:
        driven = np.zeros((1, bands.centres.size), dtype=np.bool_)
        driven[0] = np.isfinite(bands.torque).any(axis=0)
        return np.full(bands.centres.shape, np.nan), driven
    places, values = [], []
    for pull in pulls:
        there = axis_values(table.y, dict(pull.signals), pull.log)
        use = pull.known & np.isfinite(there)
        places.append(np.searchsorted(bands.edges, pull.speed[use], side="right") - 1)
        values.append(there[use])
    place, value = np.concatenate(places), np.concatenate(values)
    loads, ran = np.full(bands.centres.size, np.nan), np.zeros(shape, dtype=np.bool_)
    for column in range(loads.size):
        here = value[place == column]
        if here.size:
            loads[column] = np.median(here)
            share = np.bincount(table.y.nearest(here), minlength=shape[0]) / here.size
            ran[:, column] = share >= _RAN
            ran[_nearest_rows(table.y, float(loads[column])), column] = True
    return loads, ran


def _nearest_rows(axis: Axis, load: float) -> list[int]:
    """The breakpoint nearest to a load; both of two as near."""
    away = np.abs(axis.breakpoints - load)
    return [int(one) for one in np.flatnonzero(away <= away.min() * (1.0 + 1e-6) + 1e-9)]


def _applied(
    laid: tuple[Table, bool],
    decisions: Sequence[Decision],
    ran: BoolArray,
    policy: TorquePolicy,
    real: set[tuple[int, int]],
) -> tuple[FloatArray, np.ndarray]:
    """The decisions in the table's cells; the table has engine speed along its columns, and may have been turned.

    Spark goes in only where the runs went: in rows that are nearest to their samples. It goes out of both rows around
    their load, so that the lookup falls by all that was decided, and out of every higher load too. Pinned cells stay, and
    no cell with real knock rises.
    """
    table, turned = laid
    before, after = table.grid, table.grid.copy()
    state = np.full(table.shape, "kept", dtype=object)

    def cells(some: Collection[Cell] | None, default: bool) -> BoolArray:
        mine = None if some is None else tuple((j, i) if turned else (i, j) for i, j in some)
        return cells_mask(mine, table.shape, default=default)

    pinned = cells(policy.pinned, default=False)
    open_ = cells(policy.only, default=True) & ~pinned
    knocks = cells(tuple(real), default=False)
    for decision in decisions:
        change = decision.after - decision.spark
        if abs(change) < 0.05:
            continue
        i = decision.column
        rows = np.flatnonzero(ran[:, i]).tolist() if change > 0 else _rows(table, decision.load)
        for j in rows:
            after[j, i] += change
            state[j, i] = "changed"
        if change < 0:
            for j in range(rows[-1] + 1, table.shape[0]):
                after[j, i] += change
                state[j, i] = "filled"
    fine = 10.0**table.decimals
    # Towards less spark: rounding must not add any.
    after = np.where(after != before, np.floor(after * fine + 1e-6) / fine, before)
    after = np.where(knocks, np.minimum(after, before), after)
    after = np.clip(
        after, -np.inf if table.minimum is None else table.minimum, np.inf if table.maximum is None else table.maximum
    )
    after = np.where(open_, after, before)
    state[after == before] = "kept"
    state[pinned] = "pinned"
    return after, state


def _rows(table: Table, load: float) -> list[int]:
    """Rows between which a load lies; one alone if it lies on it."""
    if table.y is None or not np.isfinite(load):
        return [0]
    below, share = table.y.place(np.array([load]))
    j, f = int(below[0]), float(share[0])
    return [j] if f < 0.02 else [j + 1] if f > 0.98 else [j, j + 1]
