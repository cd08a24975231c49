"""From a stored upload to logs that can be worked with."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict
from functools import partial

import numpy as np

from uchiwa.core.briefs.acceptance import Verdict, blocking, judge
from uchiwa.core.briefs.brief import Brief
from uchiwa.core.briefs.coverage import dwell
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.checks import ExaminedLog, Finding, examine, own
from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.drives import Drive
from uchiwa.core.logs.log import FloatArray, Log
from uchiwa.core.logs.readers import check_size, read_recordings
from uchiwa.core.logs.recognition.knowledge import Assignment, Knowledge
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.core.words.sentence import Sentence, plain_data
from uchiwa.services import summaries
from uchiwa.services.mail import telling
from uchiwa.services.summaries import tell_if_all_are_there
from uchiwa.store import (
    briefs,
    calibrations,
    channels,
    findings,
    import_results,
    leases,
    levels,
    log_states,
    memory,
    moves,
    revisions,
    samples,
    shelf,
    untold,
    uploads,
)
from uchiwa.store.collected import dwell_of
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Car, Job, LogFile, Round, Shop

_MOST_DRIVES = 400
_TELL_S = 0.25


def import_log(log_id: int) -> bool:
    """Import a file in this process if nobody else does. Killed at any moment, it starts over when its lease has ended.

    Returns:
        Whether there was something to do.
    """
    log = leases.claim(log_id)
    if log is None:
        refuse_worn_out(log_id)
        return False
    try:
        return perform(log)
    except Exception:
        leases.release(log)
        raise
    finally:
        leases.let_go(log)


class Progress:
    """How far an import is, told when it begins and then a few times a second at most: small files are through by then."""

    def __init__(self, log: LogFile) -> None:
        self.log = log
        self._next = 0.0

    def tell(self, percent: int, stage: str) -> None:
        """So far.

        Raises:
            LeaseLostError: another worker has it.
        """
        if time.monotonic() >= self._next:
            import_results.progress(self.log, percent, stage)
            self._next = time.monotonic() + _TELL_S

    def keeping(self, number: int, of: int, done: float) -> None:
        """While samples are kept: the share that is done of one of so many recordings."""
        self.tell(int(30 + 55 * (number + done) / of), "keeping samples")


def perform(log: LogFile) -> bool:
    """Import a claimed file and tell what its round shows; whether it came to an end, and not to that of its lease."""
    try:
        read_and_check(log)
    except leases.LeaseLostError:
        return False
    tell_if_all_are_there(log.round_id)
    return True


def read_and_check(log: LogFile) -> None:
    """Read a claimed file, keep its samples, check it, and show it.

    Raises:
        LeaseLostError: another worker has taken over; what this one would have written is not.
    """
    import_results.clear(log)
    progress = Progress(log)
    progress.tell(3, "reading")
    try:
        check_size(log.size, log.name)
        surroundings, data = _what_is_known(log)
        progress.tell(8, "reading")
        recordings = read_recordings(data, _file_name(log), surroundings.knowledge, surroundings.buses)
        del data
    except BadInput as error:
        refuse(log, _why(error, _file_name(log)))
        return
    progress.tell(30, "keeping samples")
    rows = [log, *import_results.siblings(log, len(recordings) - 1)]
    with ThreadPoolExecutor(1) as beside:
        examined = beside.submit(_examine_all, surroundings, rows, recordings)
        for number, (row, recording) in enumerate(zip(rows, recordings, strict=True)):
            hold = partial(leases.must_hold, log)
            samples.write(row, recording, partial(progress.keeping, number, len(rows)), hold)
        progress.tell(88, "checking")
        examined.result()
    for row in rows:  # before anybody sees them: what a view builds it may not see beside one who builds the same
        levels.build(row)
    _show(log, rows, recordings, surroundings)


def _why(error: BadInput, name: str) -> Sentence:
    """What is wrong with a file and what to do, without its name, as a sentence for any language."""
    where = error.where if error.where and error.where != name else ""
    told = {"what": error.what, "where": where, "advice": error.advice or ""}
    if where:
        return Sentence("{where}: {what}; {advice}.", **told) if error.advice else Sentence("{where}: {what}.", **told)
    return Sentence("{what}; {advice}.", **told) if error.advice else Sentence("{what}.", **told)


@run_again
def refuse(log: LogFile, message: Sentence) -> None:
    """Say why a log cannot be used, to whoever sent it and to the tuner.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        lock_job(log.job_id)
        leases.must_hold(log)
        uploads.refuse_row(log, message)
        telling.log_refused(log, message[:1].upper() + message[1:])
        moves.passed(log.job_id)


@run_again
def refuse_worn_out(log_id: int) -> None:
    """Refuse a log whose reading was begun three times and never came to an end."""
    with unit_of_work():
        log = leases.worn_out(log_id)
        if log is not None:
            lock_job(log.job_id)
            uploads.refuse_row(log, leases.WORN_OUT)
            telling.log_refused(log, leases.WORN_OUT)


@run_again
def _what_is_known(log: LogFile) -> tuple[ImportContext, bytes]:
    with unit_of_work():
        return ImportContext.of(log), uploads.whole(log)


@run_again
def _show(log: LogFile, rows: list[LogFile], recordings: list[Log], surroundings: ImportContext) -> None:
    with unit_of_work():
        lock_job(log.job_id)
        leases.must_hold(log)
        for row, recording in zip(rows, recordings, strict=True):
            surroundings.keep(row, recording)
            surroundings.tell(row)
        import_results.show(rows)
        untold.note(log.round_id)
        moves.passed(log.job_id)


def _examine_all(surroundings: ImportContext, rows: list[LogFile], recordings: list[Log]) -> None:
    """Runs beside the writing of samples, which mostly waits for the database."""
    for row, recording in zip(rows, recordings, strict=True):
        surroundings.examine(row, recording)


def _file_name(log: LogFile) -> str:
    """The file's own name; the first of several recordings is shown with its number."""
    return str(log.name).split(", 1 of ")[0]


class ImportContext:
    """What has to be known to import a log: car, brief, revision, thresholds, and what people said about channels."""

    def __init__(self, job: Job, round_: Round, car: Car, shop: Shop) -> None:
        self.job, self.round, self.car, self.shop = job, round_, car, shop
        self.file = CarFile.loads(car.file)
        self.brief: Brief | None = briefs.of_round(round_)
        revision = revisions.running(job, round_)
        self.revision: int | None = revision.number if revision is not None else None
        self.calibration: Calibration | None = (
            calibrations.content(revision.calibration) if revision is not None else None
        )
        self.table: Table | None = None
        if self.calibration is not None:
            tables = self.calibration.by_role("volumetric_efficiency") or self.calibration.by_role("maf_curve")
            self.table = tables[0] if tables else None
        self.limits = Thresholds.loads(shop.thresholds)
        self.own_checks = own.loads(shop.own_checks)
        self.book = channels.book_of(shop.id)
        self.buses = shelf.buses(shop.id)
        self._found: dict[int, tuple[ExaminedLog, list[Finding], list[Verdict], FloatArray | None]] = {}

    @classmethod
    def of(cls, log: LogFile) -> ImportContext:
        """Read them for a log."""
        job = Job.get_by_id(log.job_id)
        return cls(job, Round.get_by_id(log.round_id), Car.get_by_id(job.car_id), Shop.get_by_id(job.shop_id))

    def knowledge(self, recording: Log) -> Knowledge:
        """What is known for a recording's header."""
        return self.file.knowledge(self._recall(memory.header_of(recording)))

    @run_again
    def _recall(self, header: str) -> dict[str, Assignment]:
        with unit_of_work():
            return memory.recall(self.car, self.shop.id, header)

    def examine(self, log: LogFile, recording: Log) -> None:
        """Find drives and findings, and judge them by the brief."""
        it = ExaminedLog(
            recording, self.file, self.brief, self.calibration, self.revision, self.table, self.limits, self.book
        )
        found = examine(it, self.own_checks)
        before = self._before(log)
        verdicts = [judge(ask, it, found, before) for ask in self.brief.to_drive] if self.brief is not None else []
        seconds = dwell(self.table, it.time, it.signals, it.warm & it.running) if self.table is not None else None
        self._found[log.id] = (it, found, [verdict for verdict in verdicts if verdict is not None], seconds)

    def _before(self, log: LogFile) -> FloatArray | None:
        """Seconds that the round's other accepted logs spent in each cell."""
        return dwell_of(self._dwells_before(log.id), self.table) if self.table is not None else None

    @run_again
    def _dwells_before(self, log_id: int) -> list[str]:
        with unit_of_work():
            others = LogFile.select(LogFile.dwell).where(
                LogFile.round == self.round, LogFile.id < log_id, LogFile.accepted, LogFile.state == log_states.READY
            )
            return [other.dwell for other in others]

    def keep(self, log: LogFile, recording: Log) -> None:
        """Keep what was found. Call within a transaction."""
        it, found, verdicts, seconds = self._found[log.id]
        header = memory.header_of(recording)
        findings.keep(log, found)
        facts = import_results.facts_of(recording, header)
        facts["drives"] = json.dumps(drives_as_data(it.drives))
        facts["verdicts"] = json.dumps([_verdict_data(verdict) for verdict in verdicts], ensure_ascii=False)
        facts["dwell"] = json.dumps(np.round(seconds, 2).tolist()) if seconds is not None else ""
        if not log.decided:
            facts["accepted"] = blocking(found) is None
        LogFile.update(**facts).where(LogFile.id == log.id).execute()

    def tell(self, log: LogFile) -> None:
        """Tell by mail what came of it. Call within a transaction, after `keep`."""
        stands = blocking(self._found[log.id][1])
        if stands is None or log.decided:
            telling.log_accepted(log)
        else:
            telling.log_refused(log, stands.customer)


def _verdict_data(verdict: Verdict) -> dict[str, object]:
    return asdict(verdict) | {"said": str(verdict.said), "words": plain_data(verdict.said)}


def drives_as_data(drives: Sequence[Drive]) -> list[dict[str, object]]:
    """Drives as plain data; of each kind the longest few hundred, for a log can be two hours of town."""
    kept = sorted(drives, key=lambda drive: (drive.kind, -drive.seconds))
    count: dict[str, int] = {}
    result: list[Drive] = []
    for drive in kept:
        count[drive.kind] = count.get(drive.kind, 0) + 1
        if count[drive.kind] <= _MOST_DRIVES:
            result.append(drive)
    return [
        {"kind": drive.kind.value, "start": round(drive.start, 3), "end": round(drive.end, 3), "note": drive.note}
        for drive in sorted(result, key=lambda drive: drive.start)
    ]


def accept(job: Job, round_: Round, log: LogFile, *, accepted: bool) -> None:
    """Accept a log for this round's work, or leave it out; from now on it stays as a person said."""
    LogFile.update(accepted=accepted, decided=True).where(LogFile.id == log.id).execute()
    summaries.keep(round_, summaries.summary_of(job, round_))
