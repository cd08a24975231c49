"""From a stored upload to a log that can be worked with."""

from __future__ import annotations

import json

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.evidence import QUANTITIES, gather
from uchiwa.core.proposals.fuel import bin_evidence, summarise
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.readers import check_size, read_log
from uchiwa.store import calibrations, drafts, jobs, samples, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, Round


def import_log(log_id: int) -> bool:
    """Import a log if nobody else does. Killed at any moment, it starts over when its lease has ended.

    Returns:
        Whether there was something to do.
    """
    log = uploads.claim(log_id)
    if log is None:
        return False
    try:
        _import(log)
    except Exception:
        uploads.release(log)
        raise
    with unit_of_work():
        job = Job.get_by_id(log.job_id)
        jobs.moved(job)
        summarise_round(job, Round.get_by_id(log.round_id))
    return True


def _import(log: LogFile) -> None:
    try:
        check_size(log.size, log.name)
        with unit_of_work():
            data = b"".join(uploads.pieces(log))
        recording = read_log(data, log.name)
    except BadInput as error:
        said = str(error).removeprefix(f"{log.name}: ")
        uploads.refuse(log, said[:1].upper() + said[1:])
    else:
        uploads.complete(log, recording)


def summarise_round(job: Job, round_: Round) -> None:
    """Keep how large the error is that a round's logs show, against the revision they were recorded with."""
    logs = jobs.usable_logs(round_)
    revision = drafts.revision(job, round_.number - 1)
    if revision is None:
        return
    base = calibrations.content(revision.calibration)
    tables = base.by_role("volumetric_efficiency") or base.by_role("maf_curve")
    summary = None
    if logs and tables:
        stored = Policy.read(json.loads(round_.policy))
        policy = Policy(without=stored.without, settle_s=stored.settle_s, use_trims=stored.use_trims)
        try:
            evidence = gather(samples.read(logs, QUANTITIES), base, tables[0], policy)
            summary = summarise(bin_evidence(evidence, tables[0], policy), policy)
        except BadInput:
            summary = None
    Round.update(
        error_percent=summary.rms_percent if summary else None,
        cells=summary.cells if summary else None,
        cells_within=summary.within if summary else None,
    ).where(Round.id == round_.id).execute()


def accept(job: Job, round_: Round, log: LogFile, *, accepted: bool) -> None:
    """Accept a log for this round's work, or leave it out."""
    LogFile.update(accepted=accepted).where(LogFile.id == log.id).execute()
    summarise_round(job, round_)
