"""Spark put in by torque: a degree at a time, never near knock, never far from what is known to be safe."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.gather import axis_values
from uchiwa.core.knock.evidence import Knock, Placed, gather_knock
from uchiwa.core.knock.judgement import Cluster, clusters
from uchiwa.core.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.correction import cells_mask
from uchiwa.core.proposals.knock import KnockPolicy, counts_as_real, spark_table
from uchiwa.core.proposals.torque_policy import TorquePolicy
from uchiwa.core.pulls.gain import Gains, Method, SparkGain, gains
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.repeat import Repeatability, repeatability
from uchiwa.core.pulls.road import RoadLoad
from uchiwa.core.pulls.runs import Bands, bands_of
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.review import signed
from uchiwa.core.table import Calibration, Table
from uchiwa.core.units import convert

_RUNG = 0.5
_ENOUGH = 0.25


class Advice(StrEnum):
    """What is to be done with the spark of a column."""

    ADD = "add"
    KEEP = "keep"
    BACK = "take back"
    FAR = "too far from known safe"
    KNOCK = "knock"
    NOTHING = "not told"


@dataclass(frozen=True)
class Decision:
    """What torque and knock say about one column of the table at full load.

    Attributes:
        column: of the table.
        speed: rpm.
        load: at which the runs went through it, along the table's second axis; NaN for a curve.
        spark: that the table gives there, degrees.
        target: that it should have in the end; NaN if not told.
        after: that is proposed for this round.
        best, best_error: spark of best torque by the fit, and its standard error.
        clean: the highest spark that was run here without knock; NaN if nothing listened.
        knocked: the lowest spark that knocked; NaN if none did.
        gain: what a degree is worth.
        advice: in a word.
        reasons: for it, as sentences without their full stops.
    """

    column: int
    speed: float
    load: float
    spark: float
    target: float
    after: float
    best: float
    best_error: float
    clean: float
    knocked: float
    gain: SparkGain
    advice: Advice
    reasons: tuple[str, ...]


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
    heard_in = {
        int(column): _heard_in(int(column), numbered, everything, real, table, float(present[column])) for column in run
    }
    limits = knock_limits(speeds, present, {column: (clean, low) for column, (clean, low, _) in heard_in.items()})
    decisions = [
        _decide(
            column, speeds, loads, float(present[column]), told.bands[column], *heard, float(limits[column]), policy
        )
        for column, heard in heard_in.items()
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


def _heard_in(
    column: int,
    numbered: Sequence[tuple[int, Pull]],
    bands: Bands,
    real: Sequence[Placed],
    table: Table,
    present: float,
) -> tuple[float, float, bool]:
    """Highest spark run clean in a column, lowest that knocked, and whether anything listened.

    A knock counts by how far its spark stood above the present table at its own speed and load.
    """
    low, high = bands.edges[column], bands.edges[column + 1]
    clean, knocked, listened = float("nan"), float("nan"), False
    for row, (index, pull) in enumerate(numbered):
        spark = bands.spark[row, column]
        if not np.isfinite(spark) or not any(one in pull.signals for one in _LISTENING):
            continue
        listened = True
        here = [
            one for one in real
            if one.log == index and pull.start - 0.1 <= one.event.at <= pull.end + 0.1 and low <= one.speed < high
        ]  # fmt: skip
        if not here:
            clean = float(np.fmax(clean, spark))
            continue
        for one in here:
            given = float(table.lookup(np.array([one.speed]), np.array([one.load]) if table.y is not None else None)[0])
            knocked = float(np.fmin(knocked, present + _fired_before(pull, one.event.at) - given))
    return clean, knocked, listened


_LISTENING = ("knock_retard", "knock_count", "knock_level", "marker")
_BESIDE_RPM = 1100.0


def knock_limits(speeds: FloatArray, present: FloatArray, heard: dict[int, tuple[float, float]]) -> FloatArray:
    """Spark at which each column begins to knock; NaN where nothing near it knocked.

    Where it knocked the limit lies between the highest clean spark and the lowest that knocked. In columns between
    and beside those (up to 1100 rpm away) the distance from the present table to the limit is interpolated, for a
    limit does not jump with speed, but never below what was run clean there.

    Args:
        speeds: rpm by column.
        present: spark of the table by column, NaN where nothing was run.
        heard: by column, the highest clean spark and the lowest that knocked; NaN for none.
    """
    limits = np.full(speeds.shape, np.nan)
    for column, (clean, knocked) in heard.items():
        if np.isfinite(knocked):
            below = clean if np.isfinite(clean) and knocked - 1.0 <= clean < knocked else knocked - _RUNG
            limits[column] = (below + knocked) / 2
    sure = np.flatnonzero(np.isfinite(limits))
    if sure.size == 0:
        return limits
    room = limits - present
    for column, (clean, knocked) in heard.items():
        if np.isfinite(knocked) or np.abs(speeds[sure] - speeds[column]).min() > _BESIDE_RPM:
            continue
        near = float(np.interp(speeds[column], speeds[sure], room[sure])) + float(present[column])
        limits[column] = max(near, clean) if np.isfinite(clean) else near
    return limits


def _fired_before(pull: Pull, at: float) -> float:
    """The spark that knocked: the highest of the last three samples, for a controller takes it out at once."""
    place = int(np.searchsorted(pull.time, at - 1e-9))
    return float(np.nanmax(pull.signals["spark_advance"][max(place - 2, 0) : place + 1]))


def _decide(
    column: int,
    speeds: FloatArray,
    loads: FloatArray,
    spark: float,
    gain: SparkGain,
    clean: float,
    knocked: float,
    listened: bool,
    edge: float,
    policy: TorquePolicy,
) -> Decision:
    """Keep, add, take back: the lower of best torque and the knock limit with its margin, reached step by step."""
    why: list[str] = []
    limit = edge - policy.knock_margin
    if np.isfinite(knocked):
        why.append(f"{knocked:.1f}° knocked here: no more than {limit:.1f}°, {policy.knock_margin:g}° below")
    elif np.isfinite(limit):
        why.append(f"it knocked at speeds beside: no more than {limit:.1f}°")
    torque_target, advice = _by_torque(spark, gain, policy, why)
    target = float(np.fmin(torque_target, limit)) if np.isfinite(torque_target) or np.isfinite(limit) else float("nan")
    after = spark
    if np.isfinite(limit) and limit < spark - 0.05:
        after, advice = min(limit, float(np.fmin(target, limit))), Advice.KNOCK
        after = max(after, limit - policy.most) if np.isfinite(target) else after
    elif np.isfinite(target):
        distance = target - spark
        if distance > _ENOUGH:
            step = policy.add_far if distance >= policy.far else policy.add
            after, advice = _allowed(spark, min(distance, step, policy.most), clean, listened, policy, why)
        elif distance < -2 * _ENOUGH and advice is Advice.BACK:
            after = max(target, spark - policy.most)
        elif advice is Advice.BACK:
            advice = Advice.KEEP
    return Decision(
        column, float(speeds[column]), float(loads[column]), spark, target, after, gain.best, gain.best_error, clean,
        knocked, gain, advice, tuple(why),
    )  # fmt: skip


def _by_torque(spark: float, gain: SparkGain, policy: TorquePolicy, why: list[str]) -> tuple[float, Advice]:
    """The spark that torque asks for, and what follows."""
    if gain.method is Method.NONE:
        why.append("only one spark was run: a gain cannot be told")
        return float("nan"), Advice.NOTHING
    told = f"a degree is worth {signed(gain.gain, 2)} Nm ({signed(gain.low, 2)} … {signed(gain.high, 2)})"
    if gain.method is Method.FIT and np.isfinite(gain.best):
        why.append(f"{told}; best torque at {gain.best:.1f} ± {gain.best_error:.1f}°, from {gain.sparks} sparks")
        # Far beyond what was run a parabola is a guess: it says the way, not the place.
        best = min(gain.best, gain.highest + policy.add_far + _RUNG)
        if best < spark - 2 * _ENOUGH:
            return best, Advice.BACK
        return best, Advice.ADD if best > spark + _ENOUGH else Advice.KEEP
    worth = policy.worth_percent / 100.0 * gain.level
    if gain.low > 0 and gain.gain > worth:
        why.append(f"{told}, more than chance")
        return spark + policy.add, Advice.ADD
    if gain.high < worth:
        why.append(f"{told}: no gain, so that the lower spark is as good")
        return max(gain.lowest, spark - policy.add), Advice.BACK
    why.append(f"{told}: that cannot be told from chance; repeat the runs")
    return spark, Advice.KEEP


def _allowed(
    spark: float, rise: float, clean: float, listened: bool, policy: TorquePolicy, why: list[str]
) -> tuple[float, Advice]:
    """How much of a rise known safety allows."""
    if not listened:
        why.append("nothing listened for knock in these runs: record retard, level, count or the driver's marks")
        return spark, Advice.FAR
    top = clean + policy.beyond if np.isfinite(clean) else -np.inf
    if spark + rise <= top + 1e-9:
        return spark + rise, Advice.ADD
    if top > spark + 0.2:
        why.append(f"nothing above {clean:.1f}° was run without knock, so only to {top:.1f}°")
        return top, Advice.ADD
    known = f"nothing above {clean:.1f}° was run" if np.isfinite(clean) else "nothing was run"
    why.append(f"{known} without knock: run a little more spark before it goes into the table")
    return spark, Advice.FAR


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


def untouched(proposal: TorqueProposal) -> BoolArray:
    """Cells that stay as they are."""
    same: BoolArray = proposal.after == proposal.table.grid
    return same
