"""What has been collected in a round: the checklist, coverage, and each log with its findings."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np

from uchiwa.core.briefs.acceptance import Verdict
from uchiwa.core.briefs.brief import Brief
from uchiwa.core.briefs.checklist import Item, checklist
from uchiwa.core.briefs.coverage import Coverage
from uchiwa.core.checks.finding import Finding
from uchiwa.core.logs.drives import TITLES, Drive, DriveKind
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table
from uchiwa.core.words.sentence import N_, Sentence, sentence_of
from uchiwa.store import briefs, findings
from uchiwa.store.log_states import READY, RECEIVING
from uchiwa.store.models import Job, LogFile, Round


def verdicts_of(log: LogFile) -> list[Verdict]:
    """What a log is worth for the drives of its brief."""
    return [
        Verdict(
            DriveKind(entry["kind"]), entry["met"], sentence_of(entry.get("words") or entry["said"]), entry["seconds"]
        )
        for entry in json.loads(log.verdicts)
    ]


def drives_of(log: LogFile) -> list[Drive]:
    """The drives recognised in a log."""
    return [
        Drive(DriveKind(entry["kind"]), entry["start"], entry["end"], entry["note"]) for entry in json.loads(log.drives)
    ]


_MAIN = (
    DriveKind.PULL,
    DriveKind.ROLL_ON,
    DriveKind.IN_GEAR_WARM_UP,
    DriveKind.WARM_UP,
    DriveKind.COLD_START,
    DriveKind.CRUISE,
    DriveKind.WARM_IDLE,
)


def drive_words(log: LogFile) -> str | Sentence:
    """What a log is, in a word or two: its leading drives."""
    if log.dyno:
        return N_("dyno run")
    drives = drives_of(log)
    long_cruise = sum(drive.seconds for drive in drives if drive.kind is DriveKind.CRUISE) > 240
    order = (DriveKind.CRUISE, *_MAIN) if long_cruise else _MAIN
    words = list(dict.fromkeys(TITLES[kind] for kind in order if any(drive.kind is kind for drive in drives)))
    return Sentence("{drives}", drives=words[:2])


@dataclass(frozen=True, eq=False)
class CollectedLogs:
    """A round's logs seen against its brief.

    Attributes:
        brief: what was asked for, or None if nothing was yet.
        logs: all logs of the round, oldest first.
        found: findings by log id.
        items: the drives of the brief and how they stand.
        coverage: of the cells that the cruise is to visit, or None.
        replaced: ids of logs that were to be recorded again, and have been.
    """

    brief: Brief | None
    logs: list[LogFile]
    found: dict[int, list[Finding]]
    items: tuple[Item, ...]
    coverage: Coverage | None
    replaced: frozenset[int] = frozenset()


def collected(job: Job, round_: Round) -> CollectedLogs:
    """Read it, in a handful of queries for any number of logs."""
    brief = briefs.of_round(round_)
    logs = list(LogFile.select().where(LogFile.round == round_, LogFile.state != RECEIVING).order_by(LogFile.id))
    ready = [log for log in logs if log.state == READY]
    verdicts = {log.id: verdicts_of(log) for log in ready}
    items = checklist(brief, list(verdicts.values())) if brief is not None else ()
    newest = {verdict.kind: number for number, own in verdicts.items() for verdict in own if verdict.met}
    replaced = frozenset(
        number
        for number, own in verdicts.items()
        if own
        and not any(verdict.met for verdict in own)
        and all(newest.get(verdict.kind, 0) > number for verdict in own)
    )
    table = briefs.table_under_work(job, round_)
    return CollectedLogs(brief, logs, findings.of_logs(ready), items, _coverage(brief, table, ready), replaced)


def _coverage(brief: Brief | None, table: Table | None, ready: list[LogFile]) -> Coverage | None:
    if brief is None or table is None:
        return None
    ask = next((drive_ask for drive_ask in brief.to_drive if drive_ask.acceptance.cells), None)
    if ask is None:
        return None
    total = dwell_of([log.dwell for log in ready if log.accepted], table)
    return Coverage(table, ask.acceptance.cells, total, ask.acceptance.cell_seconds)


def dwell_of(stored: list[str], table: Table) -> FloatArray:
    """The sum of stored dwell grids that have a table's shape; shape (rows, columns)."""
    total = np.zeros(table.shape)
    for text in stored:
        if text:
            grid = np.array(json.loads(text))
            if grid.shape == total.shape:
                total += grid
    return total
