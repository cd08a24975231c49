"""The fuel proposal of a round: its logs, its policy and the calibration they were recorded with."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from uchiwa import __version__
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.delay import Delay
from uchiwa.core.evidence.stretches import Gain
from uchiwa.core.evidence.transients import Transient
from uchiwa.core.evidence.used_at import used_at
from uchiwa.core.formulas.computed import Book
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.fuel.evidence import QUANTITIES, gather
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import ROLES, FuelProposal, airflow_table, proposal_from
from uchiwa.core.proposals.fuel.report import report
from uchiwa.core.proposals.fuel.samples import ESTIMATED_BY, Estimated, Evidence
from uchiwa.core.tables.difference import difference, same_axes
from uchiwa.core.tables.editing.breakpoints import rebroken
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.services.log_cache import bytes_of, from_logs
from uchiwa.store import calibrations, channels, draft_pins, draft_steps, drafts, estimates, jobs, revisions, samples
from uchiwa.store.acting import Acting
from uchiwa.store.draft_steps import StepAccount
from uchiwa.store.models import Draft, Event, Job, LogFile, Round, StoredCalibration


@dataclass(frozen=True, eq=False)
class FuelWork:
    """What the Fuel station works on.

    Attributes:
        draft: the job's.
        base: the revision that the round's logs were recorded with, which the error is an error of; where the draft
            has other breakpoints, the proposal's table is the base's read off at those.
        drafted: the table as it stands in the draft, or in the revision that ended the round.
        logs: accepted and ready.
        proposal: computed from all of it.
    """

    draft: Draft
    base: Calibration
    drafted: Table
    logs: tuple[LogFile, ...]
    proposal: FuelProposal

    @property
    def to_take(self) -> BoolArray:
        """Cells that the proposal changes and whose proposed value is not in the draft yet."""
        after = self.proposal.correction.after
        waiting: BoolArray = (after != self.proposal.table.grid) & (after != self.drafted.grid)
        return waiting


def fuel_tables(calibration: Calibration) -> tuple[Table, ...]:
    """The tables a fuel proposal can correct."""
    return tuple(table for table in calibration.tables if table.role in ROLES)


def policy_of(round_: Round) -> Policy:
    """The policy kept with a round."""
    return Policy.read(json.loads(round_.policy))


def pinned_policy(round_: Round, draft: Draft, table_id: str) -> Policy:
    """A round's policy with the pins of a table."""
    policy = policy_of(round_)
    pinned = sorted({*policy.pinned, *draft_pins.pins_of(draft, table_id)})
    return policy.model_copy(update={"pinned": tuple(pinned)})


def keep_policy(round_: Round, policy: Policy) -> None:
    """Keep a policy with its round."""
    Round.update(policy=json.dumps(policy.model_dump(mode="json"))).where(Round.id == round_.id).execute()


def _proposal(
    running: StoredCalibration, table: Table, logs: list[LogFile], policy: Policy, book: Book
) -> FuelProposal:
    """Computed, or remembered, with the evidence it rests on: they depend on nothing but these.

    Args:
        running: what the car ran.
        table: of it, over the axes that the draft has.
    """
    base_hash, base = running.content_hash, calibrations.content(running)
    formulas = [*policy.where, *policy.in_use.values()]
    channels_used = tuple(book.written_out(text) for text in (*formulas, "charge_share"))
    along = tuple(axis.breakpoints.tobytes() for axis in (table.x, table.y) if axis is not None)

    of_evidence = (base_hash, table.id, along, policy.evidence_key(), channels_used)

    def gathered() -> Evidence:
        needed = QUANTITIES.union(*(book.needs(text, base) for text in formulas))
        mark = estimates.mark_of((__version__, ESTIMATED_BY, *((log.id, log.reading) for log in logs), *of_evidence))
        known = _estimated(estimates.find(mark))
        evidence = gather(samples.read(logs, needed), table, policy, Scope(base, None, book), known)
        if known is None:
            estimates.keep(mark, asdict(evidence.estimated))
        return evidence

    def proposed() -> FuelProposal:
        evidence = from_logs("fuel evidence", logs, of_evidence, gathered)
        return proposal_from(evidence, table, policy)

    of_proposal = (*of_evidence, table.grid.tobytes(), policy.model_dump_json())
    return from_logs(
        "fuel proposal", logs, of_proposal, proposed, lambda proposal: bytes_of(proposal) - bytes_of(proposal.evidence)
    )


def _estimated(data: dict[str, Any] | None) -> Estimated | None:
    if data is None:
        return None
    transients = tuple(Transient(**one) for one in data["transients"])
    return Estimated(Delay(**data["delay"]), Gain(**data["delay_gain"]), transients)


def check_conditions(job: Job, round_: Round, formulas: Sequence[str]) -> None:
    """Try conditions on a round's first log.

    Raises:
        BadInput: a formula is wrong, is no condition, or names a channel that the log lacks.
    """
    logs = jobs.usable_logs(round_)[:1]
    draft = drafts.current(job)
    calibration = calibrations.content(draft.calibration)
    book = channels.book_of(job.shop_id)
    for text in formulas:
        needed = book.needs(text, calibration)
        for log in samples.read(logs, {*needed, "engine_speed"}):
            time, signals = on_one_base(log)
            Workings(time, signals, Scope(calibration, None, book)).condition(text)


def round_proposal(job: Job, round_: Round, policy: Policy) -> FuelProposal | None:
    """What a round's logs say of the first table, under another policy than the round's; None if there is nothing.

    Raises:
        BadInput: the logs lack a channel.
    """
    revision, logs = revisions.running(job, round_), jobs.usable_logs(round_)
    if revision is None or not logs:
        return None
    base = calibrations.content(revision.calibration)
    tables = base.by_role("volumetric_efficiency") or base.by_role("maf_curve")
    if not tables:
        return None
    book = channels.book_of(job.shop_id)
    return _proposal(revision.calibration, tables[0], logs, policy, book)


def fuel_work(
    job: Job,
    round_: Round,
    table_id: str | None = None,
    logs: list[LogFile] | None = None,
    held_in: Callable[[Policy], Policy] | None = None,
) -> FuelWork:
    """Everything the Fuel station shows.

    Args:
        job, round_: at hand.
        table_id: of an airflow table; the first, if not given.
        logs: to compute from; those of the round that are accepted and ready, if not given.
        held_in: the policy to go by, from the round's.

    Raises:
        BadInput: there is no usable log or no table, or the logs lack a channel.
    """
    draft = drafts.current(job)
    revision = revisions.running(job, round_)
    ending = revisions.numbered(job, round_.number)
    if revision is None:
        raise BadInput(f"revision {round_.number - 1} is missing", advice="the job cannot be worked without it")
    base = calibrations.content(revision.calibration)
    tables = fuel_tables(base)
    if not tables:
        raise BadInput("the calibration has no airflow table", advice="give one the role volumetric_efficiency")
    table = airflow_table(base, table_id or tables[0].id)
    stands = draft.calibration if ending is None else ending.calibration
    drafted = calibrations.content(stands).table(table.id)
    if not same_axes(table, drafted):
        table = rebroken(table, drafted.x.breakpoints, drafted.y.breakpoints if drafted.y is not None else None)
    logs = jobs.usable_logs(round_) if logs is None else logs
    policy = pinned_policy(round_, draft, table.id)
    policy = policy if held_in is None else held_in(policy)
    book = channels.book_of(job.shop_id)
    proposal = _proposal(revision.calibration, table, logs, policy, book)
    return FuelWork(draft, base, drafted, tuple(logs), proposal)


def take(by: Acting, work: FuelWork, chosen: BoolArray | None) -> Event:
    """Take a proposal, or its chosen cells, into the draft.

    Raises:
        StaleDraftError: the draft has changed since the person saw it.
        BadInput: nothing among the chosen cells is left to take.
    """
    drafts.must_be(work.draft, by.version)
    cells = work.to_take if chosen is None else work.to_take & chosen
    if not cells.any():
        raise BadInput("nothing among these cells is left to take", advice="choose cells the proposal changes")
    proposal = work.proposal
    before = calibrations.content(work.draft.calibration)
    if proposal.table.zones:
        if chosen is not None and not (chosen >= work.to_take).all():
            raise BadInput(
                "this table is held as polynomials, which cannot take single cells", advice="take the whole proposal"
            )
        after = before.with_table(proposal.corrected)
    else:
        grid = np.where(cells, proposal.correction.after, work.drafted.grid)
        after = before.with_table(work.drafted.with_grid(grid))
    inputs = report(proposal)
    inputs["taken"] = [[int(i), int(j)] for j, i in zip(*cells.nonzero(), strict=True)]
    inputs["log_ids"] = [log.id for log in work.logs]
    running = revisions.running(by.job, by.round)
    inputs["base_revision"] = running.number if running is not None else 0
    sentence = difference(before, after).tables[0].sentence
    return draft_steps.change(work.draft, by, after, StepAccount(jobs.TAKE, sentence, inputs))


def used_moments(job: Job, round_: Round, log: LogFile, time: FloatArray) -> BoolArray | None:
    """Which moments of a log the sieve of the round's first fuel table lets through; None if it cannot be told."""
    try:
        found = fuel_work(job, round_, None)
    except BadInput:
        return None
    numbers = [number for number, one in enumerate(found.logs) if one.id == log.id]
    if not numbers:
        return None
    evidence = found.proposal.evidence
    mine = evidence.log == numbers[0]
    return used_at(evidence.time[mine], evidence.sieve.used[mine], time)
