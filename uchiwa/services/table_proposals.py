"""Proposals for tables of a round: what they work on, the policies kept with it, and taking them into the draft."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property, partial
from typing import Any, TypeVar

import numpy as np
from pydantic import BaseModel

from uchiwa.core.counted import counted
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.tables.difference import difference, same_axes
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.services.log_cache import from_logs
from uchiwa.store import calibrations, draft_pins, draft_steps, drafts, jobs, revisions, samples
from uchiwa.store.acting import Acting
from uchiwa.store.draft_steps import StepAccount
from uchiwa.store.log_names import told_apart
from uchiwa.store.models import Draft, Event, Job, LogFile, Round

_EARLIER = 6
Kept = TypeVar("Kept", bound=BaseModel)


def kept(round_: Round, key: str, kind: type[Kept]) -> Kept:
    """A policy or view kept with a round."""
    return policy_from(kind, json.loads(round_.policies).get(key, {}))


def has_kept(round_: Round, key: str) -> bool:
    """Whether anything was kept with a round under a key."""
    return key in json.loads(round_.policies)


def keep(round_: Round, key: str, policy: BaseModel) -> None:
    """Keep a policy or view with its round."""
    data = json.loads(round_.policies) | {key: policy.model_dump(mode="json")}
    Round.update(policies=json.dumps(data)).where(Round.id == round_.id).execute()


def read_logs(rows: Sequence[LogFile], needed: frozenset[str]) -> list[Log]:
    """The channels that a station needs, remembered until a log is read anew; no two logs of one name."""
    key = tuple(sorted(needed))
    logs = [from_logs("table work", [row], key, partial(_read_one, row, needed)) for row in rows]
    return [
        log if log.name == name else replace(log, name=name) for log, name in zip(logs, told_apart(rows), strict=True)
    ]


def _read_one(row: LogFile, needed: frozenset[str]) -> Log:
    return samples.read([row], needed)[0]


@dataclass(frozen=True, eq=False)
class TableContext:
    """What every sheet of the station works on.

    Attributes:
        job, round: at hand.
        draft: the job's.
        base, base_hash: the revision that the round's logs were recorded with, and what tells its content.
        table: of the base, with the draft's breakpoints.
        drafted: the same table as it stands in the draft, or in the revision that ended the round.
        rows: accepted logs and dyno files.
        needed: quantities that are read of them.
    """

    job: Job
    round: Round
    draft: Draft
    base: Calibration
    base_hash: str
    table: Table
    drafted: Table
    rows: tuple[LogFile, ...]
    needed: frozenset[str]

    @cached_property
    def logs(self) -> list[Log]:
        """What was recorded."""
        return read_logs(self.rows, self.needed)

    @cached_property
    def earlier(self) -> list[Log]:
        """Logs of earlier rounds: where they had less spark, they tell knock from noise."""
        rows = jobs.earlier_logs(self.job, self.round, _EARLIER)
        return [log for log in read_logs(rows, self.needed) if self.on_axes(log)]

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


@dataclass(frozen=True)
class SheetNeeds:
    """What a sheet works on: the role of its tables, the quantities it reads, and whether files of a dyno count.

    Attributes:
        role: of the tables.
        needed: quantities.
        dyno: whether files of a dyno count beside logs.
        other_axes: whether the draft may have other breakpoints than the car.
        logless: whether there is something to see without any log.
    """

    role: str
    needed: frozenset[str]
    dyno: bool = False
    other_axes: bool = False
    logless: bool = False


def context(job: Job, round_: Round, asked: SheetNeeds, table_id: str | None = None) -> TableContext:
    """What a sheet works on, with the table of its role.

    Raises:
        BadInput: the calibration has no such table, or there is no accepted log.
    """
    draft = drafts.current(job)
    revision = revisions.running(job, round_)
    ending = revisions.numbered(job, round_.number)
    if revision is None:
        raise BadInput(f"revision {round_.number - 1} is missing", advice="the job cannot be worked without it")
    base = calibrations.content(revision.calibration)
    tables = base.by_role(asked.role)
    if not tables:
        raise BadInput(f"the calibration has no table of the role {asked.role}", advice="give one that role")
    table = next((one for one in tables if one.id == table_id), tables[0])
    drafted = calibrations.content(draft.calibration if ending is None else ending.calibration).table(table.id)
    if not same_axes(table, drafted) and not asked.other_axes:
        raise BadInput(
            f"{table.title} has other breakpoints in the draft than in the car",
            advice="undo that step, or send the revision and record with it first",
        )
    rows = jobs.spark_logs(round_) if asked.dyno else jobs.usable_logs(round_)
    if not rows and not asked.logless:
        raise BadInput("no log has been accepted in this round", advice="send one, or accept one on Logs")
    mark = str(revision.calibration.content_hash)
    return TableContext(job, round_, draft, base, mark, table, drafted, tuple(rows), asked.needed)


@dataclass(frozen=True)
class StepOrigin:
    """What a step is in the history: what proposed it, in words, and the kind of event."""

    words: str
    kind: str = jobs.SPARK


@dataclass(frozen=True, eq=False)
class PendingTake:
    """What is about to be taken.

    Attributes:
        cells: that change; shape (rows, columns).
        table: as it is to stand in the draft.
        taken_as: what the step is called.
    """

    cells: BoolArray
    table: Table
    taken_as: StepOrigin


def values_taken(at: TableContext, after: FloatArray, chosen: BoolArray | None, taken_as: StepOrigin) -> PendingTake:
    """A proposal's values, all or those of the chosen cells, in the table as it stands in the draft.

    Args:
        after: proposed values; shape (rows, columns).
        chosen: the cells to take; None for all.
    """
    cells = at.waiting(after) if chosen is None else at.waiting(after) & chosen
    return PendingTake(cells, at.drafted.with_grid(np.where(cells, after, at.drafted.grid)), taken_as)


def take(by: Acting, at: TableContext, taking: PendingTake, inputs: dict[str, Any]) -> Event:
    """Take a proposal, or its chosen cells, into the draft.

    Args:
        inputs: what it was computed from.

    Raises:
        StaleDraftError: the draft has changed since the person saw it.
        BadInput: nothing among the chosen cells is left to take.
    """
    drafts.as_seen(at.job, by.version)
    if not taking.cells.any():
        raise BadInput("nothing among these cells is left to take", advice="choose cells the proposal changes")
    before = calibrations.content(at.draft.calibration)
    taken = before.with_table(taking.table)
    running = revisions.running(at.job, at.round)
    inputs = inputs | {
        "kind": taking.taken_as.words,
        "taken": [[int(i), int(j)] for j, i in zip(*taking.cells.nonzero(), strict=True)],
        "log_ids": [row.id for row in at.rows],
        "base_revision": running.number if running is not None else 0,
    }
    changed = difference(before, taken).tables
    cells = counted(int(taking.cells.sum()), "cell")
    told = changed[0].sentence if changed else f"{taking.table.title}: {cells}, over other breakpoints"
    sentence = f"{told} (by {taking.taken_as.words})"
    return draft_steps.change(at.draft, by, taken, StepAccount(taking.taken_as.kind, sentence, inputs))
