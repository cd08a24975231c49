"""What an import leaves of a log; refused if its lease is lost."""

from __future__ import annotations

import json
from dataclasses import asdict

from uchiwa.core.logs.log import Log
from uchiwa.core.pulls.recognised import from_dyno
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.leases import LEASE, must_hold
from uchiwa.store.log_states import IMPORTING, READY, REFUSED, STORED
from uchiwa.store.models import LogChannel, LogFile


@run_again
def progress(log: LogFile, percent: int, stage: str) -> None:
    """Show how far an import is, and hold on to it for another lease.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        must_hold(log)
        LogFile.update(percent=percent, stage=stage, lease_until=now() + LEASE).where(LogFile.id == log.id).execute()


@run_again
def clear(log: LogFile) -> None:
    """Remove what an import that did not finish, or an earlier one, has left of a log.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        must_hold(log)
        LogChannel.delete().where(LogChannel.log == log).execute()


@run_again
def siblings(log: LogFile, count: int) -> list[LogFile]:
    """Rows for the further recordings of a file, made anew or found again; those too many go.

    Raises:
        LeaseLostError: another worker has it.
    """
    with unit_of_work():
        must_hold(log)
        known = list(LogFile.select().where(LogFile.source == log).order_by(LogFile.id))
        for extra in known[count:]:
            extra.delete_instance()
        for _ in range(len(known), count):
            LogFile.create(
                job=log.job_id,
                round=log.round_id,
                source=log,
                name=log.name,
                size=log.size,
                content_hash=None,
                codec=log.codec,
                state=IMPORTING,
                uploaded_at=log.uploaded_at,
                by_customer=log.by_customer,
            )
        return list(LogFile.select().where(LogFile.source == log).order_by(LogFile.id))[:count]


def facts_of(recording: Log, header: str) -> dict[str, object]:
    """The columns of a log that its recording fills."""
    return {
        "name": recording.name[:200],
        "duration_s": recording.duration,
        "samples": max(raster.time.size for raster in recording.rasters),
        "notes": json.dumps(dict(recording.notes), ensure_ascii=False),
        "repairs": json.dumps([asdict(repair) for repair in recording.repairs], ensure_ascii=False),
        "header": header,
        "dyno": from_dyno(recording),
    }


def show(logs: list[LogFile]) -> None:
    """The import is done: show all recordings of the file at once, as a new reading. Call within a transaction."""
    ids = [log.id for log in logs]
    LogFile.update(
        state=READY, message="", percent=100, stage="", lease_until=None, attempts=0, reading=LogFile.reading + 1
    ).where(LogFile.id.in_(ids)).execute()


def read_again(logs: list[LogFile]) -> list[int]:
    """Send logs through the import once more, as after a channel was put right; the ids of the files to import.

    An import that is under way loses its lease, for it goes by what was known before.
    """
    sources = sorted({log.source_id or log.id for log in logs})
    LogFile.update(state=STORED, percent=0, stage="", message="", attempts=0, owner="").where(
        LogFile.id.in_(sources), LogFile.state.in_((READY, REFUSED, IMPORTING))
    ).execute()
    LogFile.update(state=IMPORTING).where(LogFile.source.in_(sources)).execute()
    return sources
