"""Checks of what the log belongs to: the revision under work, and the cells that still want data."""

from __future__ import annotations

import re
from collections.abc import Iterator

import numpy as np

from uchiwa.core.briefs.coverage import Coverage, dwell
from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.knock.retard import total_retard
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.logs.signal import held, rate
from uchiwa.core.tables.table import Table
from uchiwa.core.words.sentence import Sentence

_NUMBER = re.compile(r"revision\s{0,9}(\d{1,9})(?!\d)", re.IGNORECASE)
_NUMBER_ALONE = re.compile(r"\s{0,9}(\d{1,9})\s{0,9}")
_MOST = 0.8
_LEAST_SAMPLES = 60
_MOST_SAMPLES = 20_000


def other_revision(it: ExaminedLog) -> Iterator[Finding]:
    """The log was recorded with another revision than the one under work: by its mark, else by its own outputs."""
    mark = it.log.notes.get("revision", "")
    number = _NUMBER.search(mark) or _NUMBER_ALONE.fullmatch(mark)
    if number is not None and it.revision is not None:
        if int(number[1]) != it.revision:
            yield _other(f"Marked “{mark}”; revision {it.revision} is under work.", it.revision)
        return
    for said in _lookups(it):
        yield _other(said, it.revision)
        return


def _other(said: str, revision: int | None) -> Finding:
    words = (
        Sentence(
            "This log was recorded with another calibration than the one you were sent last. Please flash it, then record again."
        )
        if revision is None
        else Sentence(
            "This log was recorded with another calibration than the one you were sent last (revision {revision}). Please flash it, then record again.",
            revision=revision,
        )
    )
    return Finding(
        "other_revision",
        Severity.CRITICAL,
        words,
        said,
    )


def _lookups(it: ExaminedLog) -> Iterator[str]:
    """Logged outputs against the calibration's own tables at the same operating points."""
    if it.calibration is None:
        return
    even = _steady(it)
    for quantity, role, limit, relative in (
        ("lambda_target", "lambda_target", it.limits.lookup_lambda, True),
        ("spark_advance", "spark_advance", it.limits.lookup_spark, False),
        ("airflow", "maf_curve", it.limits.lookup_airflow, True),
    ):
        logged = it.get(quantity)
        tables = it.calibration.by_role(role)
        if logged is None or not tables:
            continue
        table = tables[0]
        steady = even & np.isfinite(logged)
        if quantity == "airflow":
            steady &= logged > 3.0
        retard = total_retard(it.signals)
        if retard is not None and quantity == "spark_advance":
            steady &= ~(retard >= 0.1)
        chosen = np.flatnonzero(steady)
        chosen = chosen[:: max(1, chosen.size // _MOST_SAMPLES)]
        try:
            expected = _looked_up(it, table, chosen)
        except BadInput:
            continue
        chosen, expected = chosen[np.isfinite(expected)], expected[np.isfinite(expected)]
        if chosen.size < _LEAST_SAMPLES:
            continue
        error = logged[chosen] - expected
        if relative:
            error = error / expected * 100.0
        if float((np.abs(error) > limit).mean()) > _MOST:
            unit = "%" if relative else "°"
            yield f"{quantity} lies {np.median(error):+.1f} {unit} (median) from {table.title} at the same operating points."


def _looked_up(it: ExaminedLog, table: Table, chosen: IntArray) -> FloatArray:
    axes = {axis.quantity for axis in (table.x, table.y) if axis is not None}
    signals = {quantity: values[chosen] for quantity, values in it.signals.items() if quantity in axes}
    x = axis_values(table.x, signals, it.log.name)
    return table.lookup(x, axis_values(table.y, signals, it.log.name) if table.y is not None else None)


def _steady(it: ExaminedLog) -> BoolArray:
    speed = it.signals["engine_speed"]
    quick = np.abs(rate(it.time, speed)) > 400.0
    throttle = it.get("throttle_position")
    if throttle is not None:
        quick |= np.abs(rate(it.time, throttle)) > 15.0
    return it.warm & it.running & ~it.overrun & ~held(it.time, quick, 0.5)


def coverage(it: ExaminedLog) -> Iterator[Finding]:
    """A cruise that has left wanted cells of the table under work without data."""
    if it.brief is None or it.table is None:
        return
    ask = next(
        (drive for drive in it.brief.to_drive if drive.kind is DriveKind.CRUISE and drive.acceptance.cells), None
    )
    cruising = sum(drive.seconds for drive in it.drives if drive.kind is DriveKind.CRUISE)
    if ask is None or cruising < 240.0:
        return
    cells = [(i, j) for i, j in ask.acceptance.cells if j < it.table.shape[0] and i < it.table.shape[1]]
    seconds = dwell(it.table, it.time, it.signals, it.warm & it.running)
    found = Coverage(it.table, cells, seconds, ask.acceptance.cell_seconds)
    if found.share * 100.0 >= ask.acceptance.cell_share:
        return
    wanted = found.missing()
    yield Finding(
        "coverage",
        Severity.WARNING,
        Sentence("Still wanted: {wanted}.", wanted=list(wanted)) if wanted else Sentence("More of the same is wanted."),
        f"{found.share:.0%} of {len(cells)} wanted cells have {ask.acceptance.cell_seconds:g} s; asked were {ask.acceptance.cell_share:.0f} %.",
    )


CHECKS = (other_revision, coverage)
