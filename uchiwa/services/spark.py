"""The Spark station's work: a round's logs and pulls, the policies kept with it, and the proposals that follow."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.evidence import Knock, gather_knock
from uchiwa.core.knock.judgement import Cluster, Verdict, clusters
from uchiwa.core.knock.retard import RETARDS
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import KnockProposal, proposal_from
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal, threshold_proposal
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.proposal import PullConditions, TorqueProposal, torque_from
from uchiwa.core.pulls.overlay import Overlay, PullView, overlay
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.road import RoadLoad
from uchiwa.core.tables.table import Table
from uchiwa.services.log_cache import from_logs
from uchiwa.services.table_proposals import SheetNeeds, TableContext, context, kept, read_logs
from uchiwa.store import (
    jobs,
    knock_decisions,
    pull_notes,
)
from uchiwa.store.knock_decisions import ClusterDecision
from uchiwa.store.models import Car, Job, LogFile, PullNote, Round

NEEDED = frozenset({
    "engine_speed", "manifold_pressure", "barometric_pressure", "pressure_ratio", "boost_pressure", "cylinder_air",
    "engine_load", "airflow", "throttle_position", "vehicle_speed", "gear", "intake_air_temperature", "lambda_measured",
    "spark_advance", *RETARDS, "knock_level", "knock_limit", "knock_count", "low_octane_flag", "marker",
    "intake_cam_advance", "exhaust_cam_advance", "wheel_torque", "wheel_power",
})  # fmt: skip
SPARK_TABLE = SheetNeeds("spark_advance", NEEDED, dyno=True)
LIMIT_TABLE = SheetNeeds("knock_limit", NEEDED, dyno=True)
_EARLIER = 6


@dataclass(frozen=True, eq=False)
class KnockWork:
    """The knock sheet: its context, what people hold the clusters to be, and the proposal."""

    context: TableContext
    decided: dict[int, ClusterDecision]
    proposal: KnockProposal

    def holds(self, cluster: Cluster) -> Verdict:
        """What a cluster counts as: a person's word goes first."""
        told = self.decided.get(cluster.number)
        return told.verdict if told is not None else cluster.verdict


def _judged(at: TableContext) -> tuple[Knock, tuple[Cluster, ...], dict[int, ClusterDecision]]:
    if not at.on_table:
        axes = " and ".join(axis.title for axis in (at.table.x, at.table.y) if axis is not None)
        raise BadInput(f"no accepted log has {axes}, the axes of {at.table.title}", advice="record them")
    knock, judged = from_logs("knock", at.rows, (*_earlier(at), *_shape(at.table)), lambda: _knock(at))
    return knock, judged, knock_decisions.of(at.job, at.round, at.table.id, judged)


def _knock(at: TableContext) -> tuple[Knock, tuple[Cluster, ...]]:
    knock = gather_knock(at.on_table, at.table)
    safer = gather_knock(at.earlier, at.table) if at.earlier else None
    return knock, clusters(knock, at.table, safer)


def _earlier(at: TableContext) -> tuple[tuple[int, int], ...]:
    """What tells the logs of earlier rounds that count."""
    return tuple((row.id, row.reading) for row in jobs.earlier_logs(at.job, at.round, _EARLIER))


def _shape(table: Table) -> tuple[object, ...]:
    """What tells a table's content."""
    axes = [axis for axis in (table.x, table.y) if axis is not None]
    return (table.id, table.grid.tobytes(), *((axis.quantity, axis.unit, axis.breakpoints.tobytes()) for axis in axes))


def _by_decisions(decided: dict[int, ClusterDecision]) -> dict[str, tuple[int, ...]]:
    return {
        "noise": tuple(number for number, decision in decided.items() if decision.verdict is Verdict.NOISE),
        "real": tuple(number for number, decision in decided.items() if decision.verdict is Verdict.REAL),
    }


def knock_work(job: Job, round_: Round, table_id: str | None = None) -> KnockWork:
    """Everything the knock sheet shows."""
    at = context(job, round_, SPARK_TABLE, table_id)
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
    places = {row.key: float(number) for number, row in enumerate(found)}

    def place(pull_row: PullRow) -> float:
        return (
            float(pull_row.note.place)
            if pull_row.note is not None and pull_row.note.place is not None
            else places[pull_row.key]
        )

    return sorted(found, key=place)


def _pulls_in(row: LogFile, load: RoadLoad | None) -> Sequence[Pull]:
    return pulls_of(read_logs([row], NEEDED)[0], load)


def overlaid(rows: Sequence[PullRow], view: PullView) -> Overlay:
    """Pulls over each other on engine speed."""
    order = tuple(row.key for row in rows)
    # Torque of a road log follows from the car's mass and drag, too, which may have been put right since.
    torque = tuple(hashlib.sha256(row.pull.torque.tobytes()).hexdigest() for row in rows)
    more = (order, view.model_dump_json(), torque, *(row.pull.factor for row in rows))
    return from_logs("overlay", [row.log for row in rows], more, lambda: overlay([row.pull for row in rows], view))


@dataclass(frozen=True, eq=False)
class TorqueWork:
    """The torque sheet: its context and the proposal."""

    context: TableContext
    decided: dict[int, ClusterDecision]
    proposal: TorqueProposal


def torque_work(job: Job, round_: Round, table_id: str | None = None) -> TorqueWork:
    """Everything the torque sheet shows.

    Raises:
        BadInput: no accepted log holds a pull with torque, or as `context`.
    """
    at = context(job, round_, SPARK_TABLE, table_id)
    knock, judged, decided = _judged(at)
    policy = kept(round_, "torque", TorquePolicy).model_copy(update={"pinned": at.pins, **_by_decisions(decided)})
    view = kept(round_, "pulls", PullView)
    load = CarFile.loads(Car.get_by_id(job.car_id).file).road_load(view.slope_percent / 100.0)
    notes = pull_notes.of(at.rows)
    hidden = frozenset(
        (number, note.number)
        for number in range(len(at.on_table))
        for (log_id, _), note in notes.items()
        if note.hidden and log_id == at.row_of(number).id
    )
    displacement = at.base.constant("displacement")
    more = (*_earlier(at), *_shape(at.table), displacement, policy.model_dump_json(), load, hidden)
    proposal = from_logs(
        "torque",
        at.rows,
        more,
        lambda: torque_from(at.on_table, at.table, PullConditions(displacement, load, hidden), (knock, judged), policy),
    )
    return TorqueWork(at, decided, proposal)


@dataclass(frozen=True, eq=False)
class LimitWork:
    """The knock-limit sheet: its context, which logs count as safe, and the proposal."""

    context: TableContext
    safe: tuple[LogFile, ...]
    proposal: ThresholdProposal


def limit_work(job: Job, round_: Round, table_id: str | None = None) -> LimitWork:
    """Everything the knock-limit sheet shows.

    A log is safe if no cluster of it counts as real knock; the others show whether real knock would still be heard.
    """
    at = context(job, round_, LIMIT_TABLE, table_id)
    spark = knock_work(job, round_)
    real = {
        spark.context.row_of(event.log).id
        for cluster in spark.proposal.clusters
        if spark.holds(cluster) is not Verdict.NOISE
        for event in cluster.events
    }
    pairs = list(zip(at.rows, at.logs, strict=True))
    safe = [(row, log) for row, log in pairs if row.id not in real and at.on_axes(log)]
    knocking = [log for row, log in pairs if row.id in real and at.on_axes(log)]
    policy = kept(round_, "limit", ThresholdPolicy).model_copy(update={"pinned": at.pins})
    calibration = at.base.with_table(at.table)
    proposal = threshold_proposal([log for _, log in safe], calibration, at.table.id, policy, knocking)
    return LimitWork(at, tuple(row for row, _ in safe), proposal)
