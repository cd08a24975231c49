"""Spark taken out where knock is real."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.knock.evidence import Knock, Placed, gather_knock
from uchiwa.core.knock.judgement import Cluster, Verdict, clusters
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.tables.orientation import load_axis
from uchiwa.core.tables.table import Axis, Calibration, Table


@dataclass(frozen=True)
class UnmetEvent:
    """A real event at whose place spark does not fall by what was seen and the margin: pins, choice or limits hold it.

    Attributes:
        event: with its place.
        wanted, falls: degrees.
    """

    event: Placed
    wanted: float
    falls: float


@dataclass(frozen=True, eq=False)
class KnockProposal:
    """A spark table with less spark where it knocks; arrays of shape (rows, columns).

    Attributes:
        table: as it is.
        knock: the evidence.
        clusters: judged.
        policy: that it was made with.
        asked: degrees that the events themselves ask out of each cell.
        after: proposed values: nowhere above the present ones.
        state: `changed`, `kept`, `pinned` or `filled` (stepped down for a neighbour, or above the knock in load).
        unmet: real events that the proposal does not answer in full.
    """

    table: Table
    knock: Knock
    clusters: tuple[Cluster, ...]
    policy: KnockPolicy
    asked: FloatArray
    after: FloatArray
    state: np.ndarray
    unmet: tuple[UnmetEvent, ...] = ()

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.table.with_grid(self.after)


def counts_as_real(cluster: Cluster, policy: KnockPolicy) -> bool:
    """Whether spark is taken out for a cluster: a person's word goes first, and doubt counts as knock."""
    if cluster.number in policy.real:
        return True
    return cluster.number not in policy.noise and cluster.verdict is not Verdict.NOISE


def spark_table(calibration: Calibration, table_id: str) -> Table:
    """The spark table of this id.

    Raises:
        BadInput: there is none; the message lists what there is.
    """
    table = next((one for one in calibration.tables if one.id == table_id), None)
    if table is None or table.role != "spark_advance":
        known = ", ".join(one.id for one in calibration.by_role("spark_advance")) or "none"
        raise BadInput(f"“{table_id}” is not a spark table", advice=f"the spark tables are: {known}")
    return table


def knock_proposal(
    logs: Sequence[Log], calibration: Calibration, table_id: str, policy: KnockPolicy, safer: Sequence[Log] = ()
) -> KnockProposal:
    """Degrees out of a spark table by the knock of logs.

    Raises:
        BadInput: there is no such table, a log lacks a channel of its axes, or no log can tell knock.
    """
    table = spark_table(calibration, table_id)
    knock = gather_knock(logs, table)
    if not knock.heard and not knock.events:
        raise BadInput("no log has a knock channel or a driver's mark", advice="record knock retard, count or level")
    judged = clusters(knock, table, gather_knock(safer, table) if safer else None)
    return proposal_from(table, knock, judged, policy)


def proposal_from(table: Table, knock: Knock, judged: tuple[Cluster, ...], policy: KnockPolicy) -> KnockProposal:
    """What the judged clusters ask for, carried upward in load and stepped down to the sides.

    The table's lookup lies between breakpoints, so out of every cell between which a real event lies goes the retard
    seen there, rounded up to the step, plus the margin: then the spark looked up at the event falls by as much. Every
    cell above in load, whichever way the table is laid, gives at least as much, for it knocks there the sooner. Then
    T′ᵢ = minⱼ(Tⱼ + slope · distanceᵢⱼ), which never raises spark.
    """
    asked = _asked(table, knock, judged, policy)
    along = load_axis(table)
    carried = asked if along is None else np.maximum.accumulate(asked, axis=along)
    wanted = np.where(carried > 0, table.grid - carried, table.grid)
    pinned = cells_mask(policy.pinned, table.shape, default=False)
    open_ = cells_mask(policy.only, table.shape, default=True) & ~pinned
    lowered = np.where(open_, wanted, table.grid)
    if (carried > 0).any():
        lowered = _without_ledges(table.grid, lowered, open_, policy.slope)
    fine = 10.0**table.decimals
    after = np.where(lowered < table.grid, np.floor(lowered * fine + 1e-6) / fine, table.grid)
    after = np.where(
        after < table.grid, np.maximum(after, -np.inf if table.minimum is None else table.minimum), table.grid
    )
    after = np.minimum(after, table.grid)
    state = np.full(table.shape, "kept", dtype=object)
    state[(after < table.grid) & (asked > 0)] = "changed"
    state[(after < table.grid) & (asked <= 0)] = "filled"
    state[pinned] = "pinned"
    return KnockProposal(table, knock, judged, policy, asked, after, state, _unmet(table, after, judged, policy))


def _wanted(event: Placed, policy: KnockPolicy) -> float:
    """Degrees that an event asks for: what was seen, rounded up, and the margin."""
    seen = event.event.retard if event.event.measured else max(event.event.retard, policy.unmeasured)
    return _rounded_up(max(seen, policy.step), policy) + policy.margin


def _between(axis: Axis | None, value: float) -> set[int]:
    """The breakpoints that a lookup at a value makes use of."""
    if axis is None:
        return {0}
    below, share = (one[0] for one in axis.place(np.array([value])))
    return {int(at) for at, weight in ((below, 1.0 - share), (below + 1, share)) if weight > 0}


def _around(table: Table, event: Placed, widen: int) -> set[tuple[int, int]]:
    """Cells [i, j] between which an event lies, and those `widen` beside its own in speed."""
    columns, rows = _between(table.x, event.x), _between(table.y, event.y)
    if load_axis(table) == 1:
        rows |= set(range(event.j - widen, event.j + widen + 1))
    else:
        columns |= set(range(event.i - widen, event.i + widen + 1))
    return {(i, j) for i in columns for j in rows if 0 <= i < table.shape[1] and 0 <= j < table.shape[0]}


def _asked(table: Table, knock: Knock, judged: Collection[Cluster], policy: KnockPolicy) -> FloatArray:
    """Degrees that events ask out of the cells around them, and retard that was still held out of the cells after.

    While a controller gives spark back, it does not knock where it would have: cells that touch a cluster and had
    retard without an event give their mean retard.
    """
    asked = np.zeros(table.shape)
    for cluster in judged:
        if not counts_as_real(cluster, policy):
            continue
        for event in cluster.events:
            out = _wanted(event, policy)
            for i, j in _around(table, event, policy.widen):
                asked[j, i] = max(asked[j, i], out)
        for i, j in _shadow(cluster, knock, policy):
            asked[j, i] = max(asked[j, i], _rounded_up(float(knock.mean[j, i]), policy))
    return np.maximum(asked, _asked_by_learned(table, knock, judged, policy))


def _asked_by_learned(table: Table, knock: Knock, judged: Collection[Cluster], policy: KnockPolicy) -> FloatArray:
    """What the controller has learned to hold back, and the margin, but not where its cause is held to be noise."""
    asked = np.zeros(table.shape)
    if knock.learned is None or not policy.learned:
        return asked
    for j, i in np.argwhere(knock.learned >= policy.step).tolist():
        asked[j, i] = _rounded_up(float(knock.learned[j, i]), policy) + policy.margin
    for cluster in judged:
        if not counts_as_real(cluster, policy):
            for event in cluster.events:
                for i, j in _around(table, event, 0):
                    asked[j, i] = 0.0
    return asked


def _unmet(table: Table, after: FloatArray, judged: Collection[Cluster], policy: KnockPolicy) -> tuple[UnmetEvent, ...]:
    """Real events at whose place the lookup does not fall by what they ask for."""
    events = [event for cluster in judged if counts_as_real(cluster, policy) for event in cluster.events]
    if not events:
        return ()
    x = np.array([event.x for event in events])
    y = np.array([event.y for event in events]) if table.y is not None else None
    falls = table.lookup(x, y) - table.with_grid(after).lookup(x, y)
    seen = [event.event.retard + policy.margin for event in events]
    return tuple(
        UnmetEvent(event, wanted, float(fall))
        for event, wanted, fall in zip(events, seen, falls, strict=True)
        if fall < wanted - 1e-6
    )


def _rounded_up(degrees: float, policy: KnockPolicy) -> float:
    return float(np.ceil(degrees / policy.step - 1e-9) * policy.step)


def _shadow(cluster: Cluster, knock: Knock, policy: KnockPolicy) -> set[tuple[int, int]]:
    """Cells [i, j] without an event in which retard was held, joined to a cluster."""
    rows, columns = knock.mean.shape
    found: set[tuple[int, int]] = set()
    ahead = list(cluster.cells)
    while ahead:
        i, j = ahead.pop()
        for a, b in ((i + 1, j), (i - 1, j), (i, j + 1), (i, j - 1)):
            new = 0 <= a < columns and 0 <= b < rows and (a, b) not in found and (a, b) not in cluster.cells
            if new and knock.mean[b, a] >= policy.step and knock.count[b, a] == 0:
                found.add((a, b))
                ahead.append((a, b))
    return found


def _without_ledges(before: FloatArray, lowered: FloatArray, open_: BoolArray, slope: float) -> FloatArray:
    """Open cells lowered until none stands above a neighbour by more than `slope`, or than it did before.

    A step that was there already is no ledge of ours, and nothing is lowered for it.
    """
    result = lowered.copy()
    while True:
        following = result.copy()
        for axis in (0, 1):
            if before.shape[axis] < 2:
                continue
            for back in (False, True):
                here, there = _pair(axis, back=back)
                allowed = np.maximum(slope, before[here] - before[there])
                step = np.minimum(following[here], following[there] + allowed)
                following[here] = np.where(open_[here], step, following[here])
        if np.array_equal(following, result):
            return result
        result = following


def _pair(axis: int, *, back: bool) -> tuple[tuple[slice, ...], tuple[slice, ...]]:
    """Cells, and their neighbours on one side along an axis."""
    first, second = slice(None, -1), slice(1, None)
    here, there = (second, first) if back else (first, second)
    whole = slice(None)
    return ((here, whole), (there, whole)) if axis == 0 else ((whole, here), (whole, there))
