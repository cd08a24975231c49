"""Notes among the shop's people about a job. Its customer never sees them: nothing of a customer's page reads them."""

from __future__ import annotations

from uchiwa.store.clock import now
from uchiwa.store.models import Job, JobNote, User

_LATEST = 30
LONGEST = 2000


def write(job: Job, author: User, text: str, once: str | None = None) -> None:
    """Keep a note; empty ones are dropped, and a form that is sent twice gives one."""
    words = text.strip()[:LONGEST]
    if words:
        JobNote.insert(job=job, author=author, text=words, at=now(), once=once or None).on_conflict(
            update={JobNote.id: JobNote.id}
        ).execute()


def of_job(job: Job) -> list[JobNote]:
    """The latest notes, newest first, with their authors."""
    query = JobNote.select(JobNote, User).join(User).where(JobNote.job == job)
    return list(query.order_by(JobNote.id.desc()).limit(_LATEST))
