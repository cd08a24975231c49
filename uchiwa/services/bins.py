"""Bins of anything: a round's gathering, its logs, and what came of it."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gathering import GatheredCells, Gathering, Statistic, axes_of, gathered
from uchiwa.core.formulas.computed import Book
from uchiwa.core.formulas.dimension import meaning
from uchiwa.core.formulas.language import FormulaError, parse
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.difference import same_axes
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.core.viewing.ticks import nice_ticks
from uchiwa.services.log_cache import from_logs
from uchiwa.services.table_proposals import has_kept, kept
from uchiwa.store import calibrations, channels, jobs, revisions, samples
from uchiwa.store.models import Job, LogFile, Round

KEY = "bins"
_TRIMS = "short_term_trim + long_term_trim"
_POINTS, _FEWEST = 9, 2
_AIRFLOW = ("volumetric_efficiency", "maf_curve")


@dataclass(frozen=True, eq=False)
class BinsWork:
    """What the bins page shows.

    Attributes:
        base: the calibration that the round's logs were recorded with.
        asked: what is gathered.
        rows: the logs of the first gathering.
        first: what came of it.
        second, second_rows, second_words: what it is held against, of which logs, and in words; None without.
        every: all logs that there are to choose from.
        unit: of the figures; empty where the formula does not tell.
    """

    base: Calibration
    asked: Gathering
    rows: tuple[LogFile, ...]
    first: GatheredCells
    second: GatheredCells | None
    second_rows: tuple[LogFile, ...]
    second_words: str
    every: tuple[LogFile, ...]
    unit: str = ""

    @property
    def difference(self) -> FloatArray:
        """The first less the second; NaN where either has too little evidence."""
        if self.second is None:
            return np.full(self.first.figure.shape, np.nan)
        return self.first.figure - self.second.figure


def calibration_of(job: Job, round_: Round) -> tuple[Calibration, str]:
    """The calibration that a round's logs were recorded with, and what tells its content.

    Raises:
        BadInput: it is missing.
    """
    revision = revisions.running(job, round_)
    if revision is None:
        raise BadInput(f"revision {round_.number - 1} is missing", advice="the job cannot be worked without it")
    return calibrations.content(revision.calibration), str(revision.calibration.content_hash)


def asked_of(job: Job, round_: Round, table_id: str | None = None) -> Gathering:
    """The gathering kept with a round, on the table that is looked at, if one is."""
    asked = kept(round_, KEY, Gathering)
    base, _ = calibration_of(job, round_)
    if not has_kept(round_, KEY):
        rows = _rows(job, round_, asked.over)
        if rows and not any("lambda_measured" in log.quantities for log in samples.read(rows, {"lambda_measured"})):
            asked = asked.model_copy(update={"value": _TRIMS})
    if table_id and table_id in [table.id for table in base.tables]:
        return asked.model_copy(update={"table": table_id})
    if not asked.table and not asked.x_quantity:
        first = next(
            (table for role in _AIRFLOW for table in base.by_role(role)), base.tables[0] if base.tables else None
        )
        asked = asked.model_copy(update={"table": first.id if first is not None else ""})
    return asked


def _rows(job: Job, round_: Round, over: str) -> list[LogFile]:
    """The accepted logs of a scope.

    Raises:
        BadInput: there is no such log.
    """
    by_round = {number: logs for number, logs in jobs.usable_by_round(job).items() if number <= round_.number}
    earlier = [number for number in by_round if number < round_.number]
    match over:
        case "round":
            return by_round.get(round_.number, [])
        case "before":
            return by_round[max(earlier)] if earlier else []
        case "first":
            return by_round[min(earlier)] if earlier else []
        case "all":
            return [row for logs in by_round.values() for row in logs]
        case _:
            found = [row for logs in by_round.values() for row in logs if str(row.id) == over]
            if not found:
                raise BadInput("this log is not among the accepted ones", advice="choose another")
            return found


def bins_work(job: Job, round_: Round, table_id: str | None = None) -> BinsWork:
    """Everything the bins page shows.

    Raises:
        BadInput: a formula, a condition or an axis is wrong, or the logs lack a channel.
    """
    base, mark = calibration_of(job, round_)
    asked = asked_of(job, round_, table_id)
    rows = _rows(job, round_, asked.over)
    book, running = channels.book_of(job.shop_id), (base, mark)
    first = _gathered(book, running, asked, rows, asked.value)
    second, others, words = None, rows, ""
    if asked.other.strip():
        second, words = _gathered(book, running, asked, rows, asked.other), asked.other
    elif asked.against != "nothing":
        others = _rows(job, round_, asked.against)
        words = {"before": "the round before", "first": "the first round"}[asked.against]
        if not others:
            raise BadInput("there is no earlier round with logs to hold it against", advice="hold it against nothing")
        second = _gathered(book, running, asked, others, asked.value)
    every = _rows(job, round_, "all")
    unit = _unit(job, base, asked)
    return BinsWork(base, asked, tuple(rows), first, second, tuple(others), words, tuple(every), unit)


def _unit(job: Job, base: Calibration, asked: Gathering) -> str:
    """The unit of the figures: of the formula, of counts or of time."""
    if asked.statistic in (Statistic.COUNT, Statistic.TIME):
        return {Statistic.COUNT: "samples", Statistic.TIME: "s"}[asked.statistic]
    try:
        return meaning(parse(asked.value), channels.book_of(job.shop_id), base).unit
    except FormulaError:
        return ""


def _gathered(
    book: Book, running: tuple[Calibration, str], asked: Gathering, rows: list[LogFile], value: str
) -> GatheredCells:
    """One gathering, remembered for as long as its logs are read as they were.

    Args:
        running: the calibration, and what marks it.
    """
    base, mark = running
    axes = axes_of(asked, base)
    formulas = (value, *asked.conditions)
    needed = {axis.quantity for axis in (axes.x, axes.y) if axis is not None} | {"engine_speed"}
    needed |= set().union(*(book.needs(text, base) for text in formulas))
    needed |= {"barometric_pressure", "boost_pressure", "manifold_pressure"} & _derived(needed)
    written = tuple(str(book.written_out(text)) for text in formulas)
    more = (mark, asked.model_dump_json(), value, *written)
    return from_logs(KEY, rows, more, lambda: gathered(samples.read(rows, needed), base, asked, value, book))


def with_points(job: Job, round_: Round, asked: Gathering) -> Gathering:
    """A gathering on own axes with breakpoints for those that have none yet: round ones over what was recorded."""
    if asked.table:
        return asked
    first = asked.x_quantity or "engine_speed"
    found = asked.model_copy(update={"x_quantity": first})
    rows = _rows(job, round_, asked.over)
    if not found.x_points.strip():
        found = found.model_copy(update={"x_points": _round_points(rows, first)})
    if found.y_quantity and not found.y_points.strip():
        found = found.model_copy(update={"y_points": _round_points(rows, found.y_quantity)})
    return found


def _round_points(rows: list[LogFile], quantity: str) -> str:
    """Round breakpoints over the range in which a quantity was recorded; a plain range where it was not."""
    seen = [
        log.quantities[quantity].values
        for log in samples.read(rows, {quantity, "engine_speed"})
        if quantity in log.quantities
    ]
    known = np.concatenate(seen) if seen else np.zeros(0)
    known = known[np.isfinite(known)]
    low, high = (float(np.quantile(known, 0.01)), float(np.quantile(known, 0.99))) if known.size else (0.0, 100.0)
    points = nice_ticks(low, high, _POINTS) if high > low else []
    return " ".join(f"{point:g}" for point in (points if len(points) >= _FEWEST else (low, low + 1.0)))


def _derived(needed: set[str]) -> set[str]:
    """What pressures a pressure that was not recorded follows from."""
    pressures = {"barometric_pressure", "boost_pressure", "manifold_pressure", "pressure_ratio"}
    return pressures if needed & pressures else set()


def bins_for_cells(job: Job, round_: Round, table: Table) -> tuple[FloatArray, Gathering]:
    """The figures gathered on a table's own axes, for its cell line; NaN where there is too little evidence.

    Raises:
        BadInput: what is gathered lies on other axes, or cannot be gathered.
    """
    work = bins_work(job, round_, table.id)
    if not same_axes(work.first.axes, replace(work.first.axes, x=table.x, y=table.y)):
        raise BadInput(
            f"what is gathered lies on other breakpoints than {table.title}", advice="gather on this table's axes first"
        )
    return work.first.figure, work.asked


def gathered_for(job: Job, round_: Round, asked: Gathering) -> tuple[GatheredCells, list[str], str]:
    """One gathering of a round, asked for without keeping it: what came of it, names of its logs, and the unit.

    Raises:
        BadInput: there are no logs, or a formula, a condition or an axis is wrong.
    """
    base, mark = calibration_of(job, round_)
    rows = _rows(job, round_, asked.over)
    if not rows:
        raise BadInput("there is no accepted log to gather from", advice="send one first")
    return (
        _gathered(channels.book_of(job.shop_id), (base, mark), asked, rows, asked.value),
        [str(row.name) for row in rows],
        _unit(job, base, asked),
    )
