"""A job's tables under edit: draft, revision, evidence, history; and the edits themselves."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, field, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.quantities.display import DisplayUnits, shown_table
from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.breakpoints import rebroken
from uchiwa.core.tables.editing.clipboard import Joining, pasted, read_numbers
from uchiwa.core.tables.editing.expression import names_bins
from uchiwa.core.tables.editing.line import EditResult, edited, finished
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.services.bins import bins_for_cells
from uchiwa.services.fuel import policy_of
from uchiwa.services.visits import Visits, visits
from uchiwa.store import calibrations, draft_pins, draft_steps, drafts, jobs, revisions
from uchiwa.store.acting import Acting
from uchiwa.store.models import Draft, Event, Job, Round

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


@dataclass(frozen=True)
class Editor:
    """Who edits, and in which units."""

    by: Acting
    display: DisplayUnits = field(default_factory=DisplayUnits)


@dataclass(frozen=True, eq=False)
class Done:
    """A step that was made, the table as it is after it, and which cells it was about."""

    event: Event
    after: TableWork
    chosen: BoolArray | None = None


def _as_seen(work: TableWork, version: int) -> None:
    """Raises StaleDraftError if the draft is not the one the person saw."""
    drafts.must_be(work.draft, version)


def _after(work: TableWork, content: Calibration) -> TableWork:
    """The table in another content of the draft: breakpoints alike, so the logs say the same of it."""
    return replace(work, content=content, table=content.table(work.table.id))


def _keep(editor: Editor, work: TableWork, after: EditResult, inputs: dict[str, object]) -> Done:
    content = work.content.with_table(after.table)
    told = {"table": work.table.id, "cells": int(after.changed.sum())} | inputs
    event = draft_steps.edit(work.draft, editor.by, content, after.sentence, told)
    return Done(event, _after(work, content))


def edit(editor: Editor, work: TableWork, cells: Cells, line: str) -> Done:
    """Apply a cell line to cells of the draft.

    Raises:
        BadInput: the line cannot be applied; the draft is as it was.
        StaleDraftError: the draft has changed since the person looked.
    """
    _as_seen(work, editor.by.version)
    area = Area.of(work.table, cells, work.pinned)
    inputs: dict[str, object] = {"line": line, "units": editor.display.measures}
    if not names_bins(line):
        return _keep(editor, work, edited(work.table, area, line, work.was, editor.display), inputs)
    figures, asked = bins_for_cells(editor.by.job, editor.by.round, work.table)
    after = edited(work.table, area, line, work.was, editor.display, figures)
    after = replace(after, sentence=f"{after.sentence}; bins: {asked.sentence()}")
    return _keep(editor, work, after, inputs | {"bins": asked.model_dump(mode="json")})


def paste(editor: Editor, work: TableWork, cells: Cells, text: str, joining: Joining) -> Done:
    """Paste tab-separated text into the draft; `chosen` says where it went.

    Raises:
        BadInput, StaleDraftError: as `edit`.
    """
    _as_seen(work, editor.by.version)
    area = Area.of(work.table, cells, work.pinned)
    seen = shown_table(work.table, editor.display)
    numbers = read_numbers(text)
    values, where = pasted(seen, area, numbers, joining)
    words = {Joining.REPLACE: "pasted", Joining.ADD: "pasted, added,", Joining.MULTIPLY: "pasted, multiplied,"}[joining]
    block = f"{words} {numbers.shape[0]} × {numbers.shape[1]}"
    after = finished(work.table, where, values, block, editor.display)
    done = _keep(editor, work, after, {"pasted": text[:20_000], "joining": joining})
    return replace(done, chosen=where.chosen)


def undo(editor: Editor, work: TableWork) -> Done:
    """Put back the last step; `after` is the table as it is then.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        CannotPutBackError: there is none.
    """
    _as_seen(work, editor.by.version)
    return _swapped(draft_steps.undo(editor.by), editor.by.job, work)


def redo(editor: Editor, work: TableWork) -> Done:
    """Do the last undone step again.

    Raises:
        StaleDraftError, CannotPutBackError: as `undo`.
    """
    _as_seen(work, editor.by.version)
    return _swapped(draft_steps.redo(editor.by), editor.by.job, work)


def _swapped(step: Event, job: Job, work: TableWork) -> Done:
    draft = drafts.current(job)
    return Done(step, replace(_after(work, calibrations.content(draft.calibration)), draft=draft))


def toggle_pins(work: TableWork, cells: Cells) -> tuple[TableWork, bool]:
    """Pin cells, or free them if all of them are pinned; the table then, and whether they are pinned now."""
    rows, columns = work.table.shape
    inside = {(i, j) for i, j in cells if i < columns and j < rows}
    pinned = draft_pins.keep_pins(work.draft, work.table.id, set(work.pinned), inside)
    now = work.pinned | inside if pinned else work.pinned - inside
    return replace(work, pinned=frozenset(now)), pinned


def change_breakpoints(by: Acting, table_ids: Iterable[str], x: FloatArray, y: FloatArray | None) -> Event:
    """Give tables other breakpoints, in one step; their pins are dropped.

    Args:
        table_ids: the table at hand first; the others have the same breakpoints as it had.
        x, y: in the axes' own units.

    Raises:
        BadInput: a table cannot have them, or nothing would change.
    """
    draft = drafts.as_seen(by.job, by.version)
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
    return draft_steps.edit(draft, by, content, sentence, told)


def alike(content: Calibration, table: Table) -> tuple[Table, ...]:
    """Other tables over the same breakpoints."""
    return tuple(one for one in content.tables if one.id != table.id and same_axes(one, table) and not one.zones)


def change_content(
    by: Acting, change: Callable[[Calibration], Calibration], sentence: str, inputs: dict[str, object]
) -> Event:
    """Any other change of the draft's content."""
    draft = drafts.as_seen(by.job, by.version)
    content = change(calibrations.content(draft.calibration))
    return draft_steps.edit(draft, by, content, sentence, dict(inputs))
