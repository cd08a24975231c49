"""Notes on moments and stretches of logs."""

from __future__ import annotations

import math
from collections.abc import Collection

from uchiwa.core.errors import BadInput
from uchiwa.store import events
from uchiwa.store.clock import now
from uchiwa.store.models import Job, LogFile, LogNote, User


def of_logs(log_ids: Collection[int]) -> list[LogNote]:
    """The notes on some logs with their authors, in order of time."""
    if not log_ids:
        return []
    query = LogNote.select(LogNote, User).join(User).where(LogNote.log.in_(list(log_ids)))
    return list(query.order_by(LogNote.log, LogNote.start_s, LogNote.id))


def shown_of(job: Job) -> list[LogNote]:
    """The latest twenty notes of a job that its customer is shown, with their logs, newest first."""
    query = LogNote.select(LogNote, LogFile).join(LogFile).where(LogFile.job == job, LogNote.shown)
    return list(query.order_by(LogNote.id.desc()).limit(20))


def write(log: LogFile, author: User, span: tuple[float, float], text: str, *, shown: bool) -> LogNote:
    """Note something on a moment (both ends alike) or a stretch of a log.

    Raises:
        BadInput: there is no text, or the stretch is not in the log.
    """
    text = text.strip()[:1000]
    if not text:
        raise BadInput("the note is empty", advice="write a few words")
    start, end = sorted(span)
    length = log.duration_s or 0.0
    if not (math.isfinite(start) and math.isfinite(end)) or end < -1 or start > length + 3600:
        raise BadInput("the note's moment is not in the log", advice="place the cursor first")
    note = LogNote.create(
        log=log, author=author, start_s=round(start, 4), end_s=round(end, 4), text=text, shown=shown, at=now()
    )
    if shown:
        events.record(log.job, "note", f"Noted on {log.name} for the customer: {text[:120]}", author=author)
    return note


def find(log_ids: Collection[int], note_id: int) -> LogNote | None:
    """One of the notes on some logs."""
    return LogNote.get_or_none(LogNote.id == note_id, LogNote.log.in_(list(log_ids)))


def show(note: LogNote, *, shown: bool) -> None:
    """Show a note to the customer, or no longer."""
    LogNote.update(shown=shown).where(LogNote.id == note.id).execute()


def drop(note: LogNote) -> None:
    """Take a note away."""
    note.delete_instance()
