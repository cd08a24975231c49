"""A job's tables under edit: draft, revision, evidence, history; and the edits themselves."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.display import Liking, shown_table
from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.breakpoints import rebroken
from uchiwa.core.tables.editing.clipboard import Joining, pasted, read_numbers
from uchiwa.core.tables.editing.line import Edited, edited, finished
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.services.fuel import policy_of
from uchiwa.services.visits import Visits, visits
from uchiwa.store import calibrations, draft_pins, draft_steps, drafts, jobs, revisions
from uchiwa.store.models import Draft, Event, Job, Round, User

Cells = list[tuple[int, int]]


@dataclass(frozen=True, eq=False)
class TableWork:
    """A table of the draft, or of a frozen revision.

    Attributes:
        draft: the job's.
        base, content: the calibration it is held against, and the one it is in.
        table: of the content.
        was: the base's table of the same id, if its axes are the same.
        visits: what the round's logs say of it; None without logs.
        pinned: its pinned cells.
        frozen: whether it cannot be edited any more.
    """

    draft: Draft
    base: Calibration
    content: Calibration
    table: Table
    was: Table | None
    visits: Visits | None
    pinned: frozenset[tuple[int, int]]
    frozen: bool


def contents(job: Job, round_: Round) -> tuple[Draft, Calibration, Calibration, bool]:
    """A round's draft with the base and the content to show: of an ended round, its revision and its parent."""
    draft = drafts.current(job)
    ending = revisions.numbered(job, round_.number) if round_.returned_at is not None else None
    if ending is None:
        return draft, calibrations.content(draft.base.calibration), calibrations.content(draft.calibration), False
    parent = revisions.parent_of(ending)
    before = parent if parent is not None else ending
    return draft, calibrations.content(before.calibration), calibrations.content(ending.calibration), True


def table_work(job: Job, round_: Round, table_id: str | None) -> TableWork:
    """A table to look at; by default the first that was changed, else the first.

    Raises:
        BadInput: the calibration has no table, or none of this id.
    """
    draft, base, content, frozen = contents(job, round_)
    if not content.tables:
        raise BadInput("this calibration has no tables")
    old = {one.id: one for one in base.tables}
    if table_id is None:
        changed = (
            one for one in content.tables if one.id in old and not np.array_equal(old[one.id].values, one.values)
        )
        table_id = next(changed, content.tables[0]).id
    try:
        table = content.table(table_id)
    except KeyError:
        raise BadInput(f"there is no table “{table_id[:60]}”", advice="choose one from the list") from None
    was = old.get(table.id)
    logs = jobs.spark_logs(round_)
    pinned = draft_pins.pins_of(draft, table.id)
    if table.role in ("volumetric_efficiency", "maf_curve"):
        pinned |= set(policy_of(round_).pinned)
    return TableWork(
        draft,
        base,
        content,
        table,
        was if was is not None and same_axes(was, table) else None,
        visits(logs, table) if logs else None,
        frozenset(pinned),
        frozen,
    )


def _keep(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    work: TableWork,
    after: Edited,
    inputs: dict[str, object],
    why: str,
) -> Event:
    content = work.content.with_table(after.table)
    told = {"table": work.table.id, "cells": int(after.changed.sum())} | inputs
    return draft_steps.edit(job, round_, author, version, content, after.sentence, told, why)


def edit(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    table_id: str,
    cells: Cells,
    line: str,
    why: str,
    liking: Liking,
) -> Event:
    """Apply a cell line to cells of the draft.

    Raises:
        BadInput: the line cannot be applied; the draft is as it was.
        StaleDraftError: the draft has changed since the person looked.
    """
    drafts.as_seen(job, version)
    work = table_work(job, round_, table_id)
    area = Area.of(work.table, cells, work.pinned)
    after = edited(work.table, area, line, work.was, liking)
    return _keep(job, round_, author, version, work, after, {"line": line, "units": liking.measures}, why)


def paste(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    table_id: str,
    cells: Cells,
    text: str,
    joining: Joining,
    why: str,
    liking: Liking,
) -> tuple[Event, Area]:
    """Paste tab-separated text into the draft; where it went."""
    drafts.as_seen(job, version)
    work = table_work(job, round_, table_id)
    area = Area.of(work.table, cells, work.pinned)
    seen = shown_table(work.table, liking)
    numbers = read_numbers(text)
    values, where = pasted(seen, area, numbers, joining)
    words = {Joining.REPLACE: "pasted", Joining.ADD: "pasted, added,", Joining.MULTIPLY: "pasted, multiplied,"}[joining]
    block = f"{words} {numbers.shape[0]} × {numbers.shape[1]}"
    after = finished(work.table, where, values, seen, block, liking)
    return _keep(job, round_, author, version, work, after, {"pasted": text[:20_000], "joining": joining}, why), where


def change_breakpoints(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    table_ids: Iterable[str],
    x: FloatArray,
    y: FloatArray | None,
    why: str,
) -> Event:
    """Give tables other breakpoints, in one step; their pins are dropped.

    Args:
        table_ids: the table at hand first; the others have the same breakpoints as it had.
        x, y: in the axes' own units.

    Raises:
        BadInput: a table cannot have them, or nothing would change.
    """
    draft = drafts.as_seen(job, version)
    content = calibrations.content(draft.calibration)
    titles, changed = [], []
    for table_id in table_ids:
        table = content.table(table_id)
        after = rebroken(table, x, y)
        if not same_axes(table, after):
            content = content.with_table(after)
            titles.append(table.title)
            changed.append(table_id)
    if not titles:
        raise BadInput("these are the breakpoints that there are", advice="change some")
    draft_pins.drop_pins(draft, changed)
    size = f"{x.size}" if y is None else f"{x.size} × {y.size}"
    sentence = f"{', '.join(titles)}: other breakpoints, {size}"
    told = {"x": x.tolist(), "y": None if y is None else y.tolist()}
    return draft_steps.edit(job, round_, author, version, content, sentence, told, why)


def alike(content: Calibration, table: Table) -> tuple[Table, ...]:
    """Other tables over the same breakpoints."""
    return tuple(one for one in content.tables if one.id != table.id and same_axes(one, table) and not one.zones)


def change_content(
    job: Job,
    round_: Round,
    author: User,
    version: int,
    change: Callable[[Calibration], Calibration],
    sentence: str,
    inputs: dict[str, object],
    why: str = "",
) -> Event:
    """Any other change of the draft's content."""
    content = change(calibrations.content(drafts.as_seen(job, version).calibration))
    return draft_steps.edit(job, round_, author, version, content, sentence, dict(inputs), why)
