"""The Spark station's work: a round's logs and pulls, the policies kept with it, and the proposals that follow."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, partial
from typing import Any, TypeVar

import numpy as np
from pydantic import BaseModel

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.evidence import Knock, gather_knock
from uchiwa.core.knock.judgement import Cluster, Verdict, clusters
from uchiwa.core.knock.retard import RETARDS
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import KnockProposal, proposal_from
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal, threshold_proposal
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.proposal import TorqueProposal, torque_from
from uchiwa.core.pulls.overlay import Overlay, PullView, overlay
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.road import RoadLoad
from uchiwa.core.tables.difference import difference, same_axes
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.services.log_cache import from_logs
from uchiwa.store import (
    calibrations,
    draft_pins,
    draft_steps,
    drafts,
    jobs,
    knock_decisions,
    pull_notes,
    revisions,
    samples,
)
from uchiwa.store.knock_decisions import Decided
from uchiwa.store.models import Car, Draft, Event, Job, LogFile, PullNote, Round, User

NEEDED = frozenset({
    "engine_speed", "manifold_pressure", "barometric_pressure", "pressure_ratio", "boost_pressure", "cylinder_air",
    "engine_load", "airflow", "throttle_position", "vehicle_speed", "gear", "intake_air_temperature", "lambda_measured",
    "spark_advance", *RETARDS, "knock_level", "knock_limit", "knock_count", "low_octane_flag", "marker",
    "intake_cam_advance", "exhaust_cam_advance", "wheel_torque", "wheel_power",
})  # fmt: skip
_EARLIER = 6
Kept = TypeVar("Kept", bound=BaseModel)


def kept(round_: Round, key: str, kind: type[Kept]) -> Kept:
    """A policy or view kept with a round."""
    return policy_from(kind, json.loads(round_.spark).get(key, {}))


def keep(round_: Round, key: str, policy: BaseModel) -> None:
    """Keep a policy or view with its round."""
    data = json.loads(round_.spark) | {key: policy.model_dump(mode="json")}
    Round.update(spark=json.dumps(data)).where(Round.id == round_.id).execute()


def read_logs(rows: Sequence[LogFile]) -> list[Log]:
    """The channels that spark work needs, remembered until a log is read anew."""
    return [from_logs("spark", [row], (), partial(_read_one, row)) for row in rows]


def _read_one(row: LogFile) -> Log:
    return samples.read([row], NEEDED)[0]


@dataclass(frozen=True, eq=False)
class SparkContext:
    """What every sheet of the station works on.

    Attributes:
        job, round: at hand.
        draft: the job's.
        base: the revision that the round's logs were recorded with.
        table: of the base, with the draft's breakpoints.
        drafted: the same table as it stands in the draft, or in the revision that ended the round.
        rows: accepted logs and dyno files.
    """

    job: Job
    round: Round
    draft: Draft
    base: Calibration
    table: Table
    drafted: Table
    rows: tuple[LogFile, ...]

    @cached_property
    def logs(self) -> list[Log]:
        """What was recorded."""
        return read_logs(self.rows)

    @cached_property
    def earlier(self) -> list[Log]:
        """Logs of earlier rounds: where they had less spark, they tell knock from noise."""
        rows = jobs.earlier_logs(self.job, self.round, _EARLIER)
        return [log for log in read_logs(rows) if self.on_axes(log)]

    @cached_property
    def on_table(self) -> list[Log]:
        """The logs that have the channels of the table's axes."""
        return [log for log in self.logs if self.on_axes(log)]

    def on_axes(self, log: Log) -> bool:
        """Whether a log has the channels of the table's axes, or those that they follow from."""
        told = set(log.quantities)
        if "barometric_pressure" in told and told & {"manifold_pressure", "boost_pressure"}:
            told |= {"manifold_pressure", "pressure_ratio", "boost_pressure"}
        return all(axis.quantity in told for axis in (self.table.x, self.table.y) if axis is not None)

    @cached_property
    def pins(self) -> tuple[tuple[int, int], ...]:
        """Pinned cells of the table."""
        return tuple(sorted(draft_pins.pins_of(self.draft, self.table.id)))

    def waiting(self, after: FloatArray) -> BoolArray:
        """Cells that a proposal changes and whose proposed value is not in the draft yet."""
        cells: BoolArray = (after != self.table.grid) & (after != self.drafted.grid)
        return cells

    def row_of(self, log: int) -> LogFile:
        """The file of a log of `on_table`, by its place there."""
        return self.rows[self.logs.index(self.on_table[log])]


def context(job: Job, round_: Round, role: str, table_id: str | None = None) -> SparkContext:
    """The context of the station with the table of a role.

    Raises:
        BadInput: the calibration has no such table, or there is no accepted log.
    """
    draft = drafts.current(job)
    revision = revisions.running(job, round_)
    ending = revisions.numbered(job, round_.number)
    if revision is None:
        raise BadInput(f"revision {round_.number - 1} is missing", advice="the job cannot be worked without it")
    base = calibrations.content(revision.calibration)
    tables = base.by_role(role)
    if not tables:
        raise BadInput(f"the calibration has no table of the role {role}", advice="give one that role")
    table = next((one for one in tables if one.id == table_id), tables[0])
    drafted = calibrations.content(draft.calibration if ending is None else ending.calibration).table(table.id)
    if not same_axes(table, drafted):
        raise BadInput(
            f"{table.title} has other breakpoints in the draft than in the car",
            advice="undo that step, or send the revision and record with it first",
        )
    rows = jobs.spark_logs(round_)
    if not rows:
        raise BadInput("no log has been accepted in this round", advice="send one, or accept one on Logs")
    return SparkContext(job, round_, draft, base, table, drafted, tuple(rows))


@dataclass(frozen=True, eq=False)
class KnockWork:
    """The knock sheet: its context, what people hold the clusters to be, and the proposal."""

    context: SparkContext
    decided: dict[int, Decided]
    proposal: KnockProposal

    def holds(self, cluster: Cluster) -> Verdict:
        """What a cluster counts as: a person's word goes first."""
        told = self.decided.get(cluster.number)
        return told.verdict if told is not None else cluster.verdict


def _judged(at: SparkContext) -> tuple[Knock, tuple[Cluster, ...], dict[int, Decided]]:
    if not at.on_table:
        axes = " and ".join(axis.title for axis in (at.table.x, at.table.y) if axis is not None)
        raise BadInput(f"no accepted log has {axes}, the axes of {at.table.title}", advice="record them")
    knock, judged = from_logs("knock", at.rows, (*_earlier(at), *_shape(at.table)), lambda: _knock(at))
    return knock, judged, knock_decisions.of(at.job, at.round, at.table.id, judged)


def _knock(at: SparkContext) -> tuple[Knock, tuple[Cluster, ...]]:
    knock = gather_knock(at.on_table, at.table)
    safer = gather_knock(at.earlier, at.table) if at.earlier else None
    return knock, clusters(knock, at.table, safer)


def _earlier(at: SparkContext) -> tuple[tuple[int, int], ...]:
    """What tells the logs of earlier rounds that count."""
    return tuple((row.id, row.reading) for row in jobs.earlier_logs(at.job, at.round, _EARLIER))


def _shape(table: Table) -> tuple[object, ...]:
    """What tells a table's content."""
    axes = [axis for axis in (table.x, table.y) if axis is not None]
    return (table.id, table.grid.tobytes(), *((one.quantity, one.unit, one.breakpoints.tobytes()) for one in axes))


def _by_decisions(decided: dict[int, Decided]) -> dict[str, tuple[int, ...]]:
    return {
        "noise": tuple(number for number, one in decided.items() if one.verdict is Verdict.NOISE),
        "real": tuple(number for number, one in decided.items() if one.verdict is Verdict.REAL),
    }


def knock_work(job: Job, round_: Round, table_id: str | None = None) -> KnockWork:
    """Everything the knock sheet shows."""
    at = context(job, round_, "spark_advance", table_id)
    knock, judged, decided = _judged(at)
    policy = kept(round_, "knock", KnockPolicy).model_copy(update={"pinned": at.pins, **_by_decisions(decided)})
    return KnockWork(at, decided, proposal_from(at.table, knock, judged, policy))


@dataclass(frozen=True, eq=False)
class PullRow:
    """A pull with its file and its note."""

    log: LogFile
    pull: Pull
    note: PullNote | None

    @property
    def key(self) -> str:
        """How it stands in forms."""
        return f"{self.log.id}.{self.pull.number}"

    @property
    def hidden(self) -> bool:
        """Whether it is not to be shown nor counted."""
        return bool(self.note is not None and self.note.hidden)


def pull_rows(job: Job, round_: Round) -> list[PullRow]:
    """Every pull of a round in the order a person gave them, else as they were recorded."""
    rows = jobs.spark_logs(round_)
    view = kept(round_, "pulls", PullView)
    load = CarFile.loads(Car.get_by_id(job.car_id).file).road_load(view.slope_percent / 100.0)
    notes = pull_notes.of(rows)
    found = [
        PullRow(row, pull, notes.get((row.id, pull.number)))
        for row in rows
        for pull in from_logs("pulls", [row], (load,), partial(_pulls_in, row, load))
    ]
    places = {one.key: float(number) for number, one in enumerate(found)}

    def place(one: PullRow) -> float:
        return float(one.note.place) if one.note is not None and one.note.place is not None else places[one.key]

    return sorted(found, key=place)


def _pulls_in(row: LogFile, load: RoadLoad | None) -> Sequence[Pull]:
    return pulls_of(read_logs([row])[0], load)


def overlaid(rows: Sequence[PullRow], view: PullView) -> Overlay:
    """Pulls over each other on engine speed."""
    order = tuple(row.key for row in rows)
    more = (order, view.model_dump_json(), *(row.pull.factor for row in rows))
    return from_logs("overlay", [row.log for row in rows], more, lambda: overlay([row.pull for row in rows], view))


@dataclass(frozen=True, eq=False)
class TorqueWork:
    """The torque sheet: its context and the proposal."""

    context: SparkContext
    decided: dict[int, Decided]
    proposal: TorqueProposal


def torque_work(job: Job, round_: Round, table_id: str | None = None) -> TorqueWork:
    """Everything the torque sheet shows.

    Raises:
        BadInput: no accepted log holds a pull with torque, or as `context`.
    """
    at = context(job, round_, "spark_advance", table_id)
    knock, judged, decided = _judged(at)
    policy = kept(round_, "torque", TorquePolicy).model_copy(update={"pinned": at.pins, **_by_decisions(decided)})
    view = kept(round_, "pulls", PullView)
    load = CarFile.loads(Car.get_by_id(job.car_id).file).road_load(view.slope_percent / 100.0)
    notes = pull_notes.of(at.rows)
    hidden = frozenset(
        (number, one.number)
        for number in range(len(at.on_table))
        for (log_id, _), one in notes.items()
        if one.hidden and log_id == at.row_of(number).id
    )
    displacement = at.base.constant("displacement")
    more = (*_earlier(at), *_shape(at.table), displacement, policy.model_dump_json(), load, hidden)
    proposal = from_logs(
        "torque",
        at.rows,
        more,
        lambda: torque_from(at.on_table, at.table, displacement, policy, load, knock, judged, hidden),
    )
    return TorqueWork(at, decided, proposal)


@dataclass(frozen=True, eq=False)
class LimitWork:
    """The knock-limit sheet: its context, which logs count as safe, and the proposal."""

    context: SparkContext
    safe: tuple[LogFile, ...]
    proposal: ThresholdProposal


def limit_work(job: Job, round_: Round, table_id: str | None = None) -> LimitWork:
    """Everything the knock-limit sheet shows.

    A log is safe if no cluster of it counts as real knock; the others show whether real knock would still be heard.
    """
    at = context(job, round_, "knock_limit", table_id)
    spark = knock_work(job, round_)
    real = {
        spark.context.row_of(one.log).id
        for cluster in spark.proposal.clusters
        if spark.holds(cluster) is not Verdict.NOISE
        for one in cluster.events
    }
    pairs = list(zip(at.rows, at.logs, strict=True))
    safe = [(row, log) for row, log in pairs if row.id not in real and at.on_axes(log)]
    knocking = [log for row, log in pairs if row.id in real and at.on_axes(log)]
    policy = kept(round_, "limit", ThresholdPolicy).model_copy(update={"pinned": at.pins})
    calibration = at.base.with_table(at.table)
    proposal = threshold_proposal([log for _, log in safe], calibration, at.table.id, policy, knocking)
    return LimitWork(at, tuple(row for row, _ in safe), proposal)


def take(
    at: SparkContext,
    author: User,
    version: int,
    after: FloatArray,
    chosen: BoolArray | None,
    kind: str,
    inputs: dict[str, Any],
) -> Event:
    """Take a proposal, or its chosen cells, into the draft.

    Args:
        after: proposed values; shape (rows, columns).
        chosen: the cells to take; None for all.
        kind: what proposed it, for the history.
        inputs: what it was computed from.

    Raises:
        StaleDraftError: the draft has changed since the person saw it.
        BadInput: nothing among the chosen cells is left to take.
    """
    drafts.as_seen(at.job, version)
    cells = at.waiting(after) if chosen is None else at.waiting(after) & chosen
    if not cells.any():
        raise BadInput("nothing among these cells is left to take", advice="choose cells the proposal changes")
    before = calibrations.content(at.draft.calibration)
    taken = before.with_table(at.drafted.with_grid(np.where(cells, after, at.drafted.grid)))
    running = revisions.running(at.job, at.round)
    inputs = inputs | {
        "kind": kind,
        "taken": [[int(i), int(j)] for j, i in zip(*cells.nonzero(), strict=True)],
        "log_ids": [row.id for row in at.rows],
        "base_revision": running.number if running is not None else 0,
    }
    sentence = difference(before, taken).tables[0].sentence
    return draft_steps.take(at.draft, at.round, author, version, taken, f"{sentence} (by {kind})", inputs, jobs.SPARK)
