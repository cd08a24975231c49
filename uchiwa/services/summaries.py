"""What a round's logs show, in the few figures that home and the job's page have of each round."""

from __future__ import annotations

import json
import math
from dataclasses import asdict

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import ErrorSummary, summarise
from uchiwa.services.fuel import round_proposal
from uchiwa.store import jobs, revisions, untold
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.locks import lock_job
from uchiwa.store.models import Job, Round

_TRIES = 3
_DATA_OF_A_POLICY = {"without", "also", "where", "in_use", "settle_s", "use_trims", "loop", "target", "transients"}
"""What of a policy says which samples count; how cautious a correction is changes nothing of what logs show."""


@run_again
def tell(round_id: int) -> None:
    """Tell what a round's logs show, computed while nobody waits for it, and kept if they are still the same.

    Of a round that is gone, with its job, there is nothing to tell.
    """
    for _ in range(_TRIES):
        with unit_of_work():
            round_ = Round.get_or_none(Round.id == round_id)
            if round_ is None:
                return
            job = Job.get_by_id(round_.job_id)
            seen, found = _rests_on(job, round_), summary_of(job, round_)
        with unit_of_work():
            if not lock_job(job.id):
                return
            if _rests_on(job, Round.get_by_id(round_id)) == seen:
                keep(round_, found)
                return


def _rests_on(job: Job, round_: Round) -> tuple[object, ...]:
    """What the summary of a round follows from."""
    revision = revisions.running(job, round_)
    logs = tuple((log.id, log.reading) for log in jobs.usable_logs(round_))
    return (logs, round_.policy, None if revision is None else revision.calibration_id)


def summary_of(job: Job, round_: Round) -> ErrorSummary | None:
    """How large the error is that a round's logs show, against the revision they were recorded with."""
    if revisions.running(job, round_) is None:
        return None
    stored = Policy.read(json.loads(round_.policy))
    try:
        proposal = round_proposal(job, round_, Policy.read(stored.model_dump(include=_DATA_OF_A_POLICY)))
    except BadInput:
        return None
    return summarise(proposal) if proposal is not None else None


def keep(round_: Round, summary: ErrorSummary | None) -> None:
    """Keep what a round's logs show with it. Call within a transaction that has locked its job."""
    Round.update(
        error_percent=summary.rms_percent if summary else None,
        cells=summary.cells if summary else None,
        cells_within=summary.within if summary else None,
        trim_percent=summary.trim_percent if summary and math.isfinite(summary.trim_percent) else None,
        driven_s=summary.driven_s if summary else None,
        regions=json.dumps([asdict(region) for region in summary.regions]) if summary else "[]",
        untold_since=None,
    ).where(Round.id == round_.id).execute()


def tell_if_all_are_there(round_id: int) -> None:
    """Tell of a round now, unless files of it are still to be imported: then the last one that comes in tells of all."""
    with unit_of_work():
        waits = untold.waits_for_more(round_id)
    if not waits:
        tell(round_id)
