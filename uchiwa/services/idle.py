"""The Idle station's work: idle airflow, warm-up and how well the car idles; and the clamp of an airflow signal."""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import Book
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.idle.quality import IdleQuality, idle_quality
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.clamp import evidence as clamp_evidence
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.proposals.clamp.proposal import ClampProposal, clamp_proposal
from uchiwa.core.proposals.idle_air import evidence as idle_evidence
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.proposals.idle_air.proposal import IdleAirProposal, idle_air_proposal
from uchiwa.core.proposals.warm_up import evidence as warm_evidence
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.proposals.warm_up.proposal import WarmUpProposal, warm_up_proposal
from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.table import Table
from uchiwa.services.log_cache import from_logs
from uchiwa.services.table_proposals import PendingTake, SheetNeeds, StepOrigin, TableContext, context, kept, read_logs
from uchiwa.store import channels, jobs
from uchiwa.store.models import Car, Job, LogFile, Round

NEEDED = idle_evidence.QUANTITIES | warm_evidence.QUANTITIES
IDLE_AIR = SheetNeeds(idle_evidence.ROLE, NEEDED)
WARM_UP = SheetNeeds(warm_evidence.ROLE, NEEDED)
CLAMP = SheetNeeds(clamp_evidence.ROLE, clamp_evidence.QUANTITIES, other_axes=True)
AS_IDLE = StepOrigin("idle air", jobs.IDLE)
AS_WARM_UP = StepOrigin("warm-up", jobs.IDLE)
AS_CLAMP = StepOrigin("signal clamp", jobs.CLAMP)
_COOLANT = "coolant_temperature"


@dataclass(frozen=True, eq=False)
class IdleAirWork:
    """The idle-air sheet: its context, the logs that tell, and the proposal."""

    context: TableContext
    rows: tuple[LogFile, ...]
    proposal: IdleAirProposal


@dataclass(frozen=True, eq=False)
class WarmUpWork:
    """The warm-up sheet: its context, the logs that tell, the proposal, and the cold target's offset beside it, if there is one."""

    context: TableContext
    rows: tuple[LogFile, ...]
    proposal: WarmUpProposal
    cold_target: Table | None


@dataclass(frozen=True, eq=False)
class ClampWork:
    """The clamp sheet: its context, the logs that tell, and the proposal."""

    context: TableContext
    rows: tuple[LogFile, ...]
    proposal: ClampProposal

    @property
    def to_take(self) -> BoolArray:
        """Cells that the proposal changes and that are not in the draft yet; of another spread of breakpoints all."""
        drafted, proposal = self.context.drafted, self.proposal
        if same_axes(drafted, proposal.table):
            cells: BoolArray = proposal.after != drafted.grid
            return cells
        return np.ones(proposal.table.shape, dtype=np.bool_)

    def taking(self, chosen: BoolArray | None) -> PendingTake:
        """What taking the chosen cells, or all, comes to.

        Raises:
            BadInput: single cells of a clamp whose breakpoints change.
        """
        drafted, proposal = self.context.drafted, self.proposal
        if same_axes(drafted, proposal.table):
            cells = self.to_take if chosen is None else self.to_take & chosen
            return PendingTake(cells, drafted.with_grid(np.where(cells, proposal.after, drafted.grid)), AS_CLAMP)
        if chosen is not None and not chosen.all():
            raise BadInput(
                "the breakpoints change as well, so that single cells cannot be taken",
                advice="take the whole clamp, or keep the breakpoints as they are",
            )
        return PendingTake(self.to_take, proposal.corrected, AS_CLAMP)


def tables_of(job: Job, round_: Round, asked: SheetNeeds) -> bool:
    """Whether the calibration in the car has tables for a sheet."""
    try:
        context(job, round_, SheetNeeds(asked.role, asked.needed, other_axes=True, logless=True))
    except BadInput:
        return False
    return True


def _logs_with_coolant(at: TableContext, *others: str) -> list[LogFile]:
    """Logs that can tell: with coolant and at least one of some quantities."""
    found = [
        row for row, log in zip(at.rows, at.logs, strict=True)
        if _COOLANT in log.quantities and (not others or set(others) & set(log.quantities))
    ]  # fmt: skip
    # If none can, all are asked, so that what is wanting is said.
    return found or list(at.rows)


def idle_air_work(job: Job, round_: Round, table_id: str | None = None) -> IdleAirWork:
    """Everything the idle-air sheet shows.

    Raises:
        BadInput: there is no such table or log, or none tells.
    """
    at = context(job, round_, IDLE_AIR, table_id)
    policy = kept(round_, "air", IdleAirPolicy).model_copy(update={"pinned": at.pins})
    automatic = CarFile.loads(Car.get_by_id(job.car_id).file).automatic
    rows = _logs_with_coolant(at)
    book = channels.book_of(job.shop_id)
    more = (*_shape(at.table), at.base_hash, policy.model_dump_json(), automatic, *_written(book, policy.where))
    proposal = from_logs(
        "idle air", rows, more,
        lambda: idle_air_proposal(
            read_logs(rows, at.needed), Scope(at.base.with_table(at.table), None, book), at.table.id, policy,
            automatic=automatic,
        ),
    )  # fmt: skip
    return IdleAirWork(at, tuple(rows), proposal)


def warm_up_work(job: Job, round_: Round, table_id: str | None = None) -> WarmUpWork:
    """Everything the warm-up sheet shows.

    Raises:
        BadInput: there is no such curve or log, or none tells.
    """
    at = context(job, round_, WARM_UP, table_id)
    policy = kept(round_, "warm-up", WarmUpPolicy).model_copy(update={"pinned": at.pins})
    rows = _logs_with_coolant(at, "lambda_measured")
    book = channels.book_of(job.shop_id)
    offsets = at.base.by_role("cold_lambda_offset")
    targets = tuple(part for offset in (*offsets, *at.base.by_role("lambda_target")) for part in _shape(offset))
    more = (*_shape(at.table), *targets, policy.model_dump_json(), *_written(book, policy.where))
    proposal = from_logs(
        "warm-up", rows, more,
        lambda: warm_up_proposal(
            read_logs(rows, at.needed), at.base.with_table(at.table), at.table.id, policy, book=book
        ),
    )  # fmt: skip
    return WarmUpWork(at, tuple(rows), proposal, offsets[0] if offsets else None)


def clamp_work(job: Job, round_: Round, table_id: str | None = None) -> ClampWork:
    """Everything the clamp sheet shows.

    Raises:
        BadInput: there is no such table or log, or none tells.
    """
    at = context(job, round_, CLAMP, table_id)
    policy = kept(round_, "clamp", ClampPolicy).model_copy(update={"pinned": at.pins})
    _, signal = clamp_evidence.axes_of(at.table)
    rows = [row for row, log in zip(at.rows, at.logs, strict=True) if signal.quantity in log.quantities] or list(
        at.rows
    )
    more = (*_shape(at.table), policy.model_dump_json())
    proposal = from_logs(
        "clamp", rows, more,
        lambda: clamp_proposal(read_logs(rows, at.needed), at.base.with_table(at.table), at.table.id, policy),
    )  # fmt: skip
    return ClampWork(at, tuple(rows), proposal)


def _written(book: Book, where: tuple[str, ...]) -> tuple[str, ...]:
    """What conditions and the charge temperature come to with a shop's computed channels."""
    return tuple(str(book.written_out(text)) for text in (*where, "charge_share"))


def _shape(table: Table) -> tuple[object, ...]:
    axes = [axis for axis in (table.x, table.y) if axis is not None]
    return (table.id, table.grid.tobytes(), *((axis.quantity, axis.unit, axis.breakpoints.tobytes()) for axis in axes))


@dataclass(frozen=True, eq=False)
class RoundQuality:
    """How the car idled in a round: its number, the logs that tell, and what they say."""

    number: int
    rows: tuple[LogFile, ...]
    quality: IdleQuality


def quality_of(job: Job) -> tuple[RoundQuality, ...]:
    """How the car idled, from round to round; rounds whose logs do not tell are left out."""
    found = []
    for number, every in jobs.usable_by_round(job).items():
        rows = [row for row in every if _tells(row)]
        if rows:
            quality = from_logs("idle quality", rows, (), partial(_quality, tuple(rows)))
            if quality.bands:
                found.append(RoundQuality(number, tuple(rows), quality))
    return tuple(found)


def _quality(rows: tuple[LogFile, ...]) -> IdleQuality:
    return idle_quality(read_logs(rows, NEEDED))


def _tells(row: LogFile) -> bool:
    return _COOLANT in read_logs([row], NEEDED)[0].quantities
