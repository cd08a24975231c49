"""Spark put in by torque: a degree at a time, never near knock, never far from what is known to be safe."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.gather import axis_values
from uchiwa.core.knock.evidence import Knock, gather_knock
from uchiwa.core.knock.judgement import Cluster, clusters
from uchiwa.core.knock.known import heard_in, knock_limits
from uchiwa.core.log import FloatArray, Log
from uchiwa.core.proposals.correction import cells_mask
from uchiwa.core.proposals.knock import KnockPolicy, counts_as_real, spark_table
from uchiwa.core.proposals.torque_decision import Decision, decide
from uchiwa.core.proposals.torque_policy import TorquePolicy
from uchiwa.core.pulls.gain import Gains, gains
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.repeat import Repeatability, repeatability
from uchiwa.core.pulls.road import RoadLoad
from uchiwa.core.pulls.runs import Bands, bands_of
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.table import Calibration, Table
from uchiwa.core.units import convert


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
    return torque_from(logs, table, calibration.constant("displacement"), policy, load, heard, judged)


def torque_from(
    logs: Sequence[Log],
    table: Table,
    displacement: float | None,
    policy: TorquePolicy,
    load: RoadLoad | None,
    heard: Knock,
    judged: tuple[Cluster, ...],
    hidden: frozenset[tuple[int, int]] = frozenset(),
) -> TorqueProposal:
    """The same from what has been gathered; `hidden` are (log, pull number) that are not to count.

    Raises:
        BadInput: no log holds a pull with torque.
    """
    numbered = [
        (index, pull)
        for index, log in enumerate(logs)
        for pull in pulls_of(log, load)
        if (index, pull.number) not in hidden and pull.known.any()
    ]
    if not numbered:
        raise BadInput(
            "no log holds a pull with torque",
            advice="send a dyno file with engine speed and torque, or a road log of a full-load pull with road speed",
        )
    speeds = convert(table.x.breakpoints, table.x.unit, QUANTITIES[table.x.quantity].unit)
    everything = bands_of([pull for _, pull in numbered], speeds, displacement)
    pulls = comparable([pull for _, pull in numbered])
    bands = bands_of(pulls, speeds, displacement)
    repeats = repeatability(bands)
    run = np.flatnonzero(np.isfinite(bands.torque).any(axis=0))
    loads = _loads(table, pulls, bands)
    present = np.full(speeds.shape, np.nan)
    present[run] = table.lookup(table.x.breakpoints[run], loads[run] if table.y is not None else None)
    told = gains(bands, repeats, present)
    noise = KnockPolicy(noise=policy.noise, real=policy.real)
    real = [one for cluster in judged if counts_as_real(cluster, noise) for one in cluster.events]
    clean_or_not = {
        int(column): heard_in(int(column), numbered, everything, real, table, float(present[column])) for column in run
    }
    limits = knock_limits(speeds, present, {column: (clean, low) for column, (clean, low, _) in clean_or_not.items()})
    decisions = [
        decide(column, speeds, loads, float(present[column]), told.bands[column], *heard, float(limits[column]), policy)
        for column, heard in clean_or_not.items()
    ]
    after, state = _applied(
        table, decisions, policy, {cell for one in judged if counts_as_real(one, noise) for cell in one.cells}
    )
    return TorqueProposal(
        table, pulls, bands, repeats, told, heard, judged, tuple(decisions), policy, after, state
    )  # fmt: skip


def comparable(pulls: Sequence[Pull]) -> tuple[Pull, ...]:
    """The pulls of the kind of which there are most, a dyno's first: torque of different kinds cannot be compared."""
    kinds = [one.measured for one in pulls]
    best = max(dict.fromkeys(kinds), key=lambda kind: (kinds.count(kind), kind == "dyno"))
    return tuple(one for one in pulls if one.measured == best)


def _loads(table: Table, pulls: Sequence[Pull], bands: Bands) -> FloatArray:
    """Where along the second axis the runs went through each column: the median of their samples."""
    if table.y is None:
        return np.full(bands.centres.shape, np.nan)
    places, values = [], []
    for pull in pulls:
        there = axis_values(table.y, dict(pull.signals), pull.log)
        use = pull.known & np.isfinite(there)
        places.append(np.searchsorted(bands.edges, pull.speed[use], side="right") - 1)
        values.append(there[use])
    place, value = np.concatenate(places), np.concatenate(values)
    loads = np.full(bands.centres.shape, np.nan)
    for column in range(loads.size):
        here = value[place == column]
        if here.size:
            loads[column] = np.median(here)
    return loads


def _applied(
    table: Table, decisions: Sequence[Decision], policy: TorquePolicy, real: set[tuple[int, int]]
) -> tuple[FloatArray, np.ndarray]:
    """The decisions in the table's cells.

    Both rows around the load of the runs move together, so that the lookup moves by just what was decided. Spark taken
    out goes out of every higher load too. Rows below that would now have less spark than a higher load, and had not
    before, are lifted to it. Pinned cells stay, and no cell with real knock rises.
    """
    before, after = table.grid, table.grid.copy()
    state = np.full(table.shape, "kept", dtype=object)
    pinned = cells_mask(policy.pinned, table.shape, default=False)
    open_ = cells_mask(policy.only, table.shape, default=True) & ~pinned
    knocks = cells_mask(tuple(real), table.shape, default=False)
    for one in decisions:
        change = one.after - one.spark
        if abs(change) < 0.05:
            continue
        i = one.column
        rows = _rows(table, one.load)
        for j in rows:
            after[j, i] += change
            state[j, i] = "changed"
        if change < 0:
            for j in range(rows[-1] + 1, table.shape[0]):
                after[j, i] += change
                state[j, i] = "filled"
        elif policy.lift:
            for j in range(rows[0] - 1, -1, -1):
                if after[j, i] >= after[j + 1, i] or before[j, i] < before[j + 1, i]:
                    break
                after[j, i] = after[j + 1, i]
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
