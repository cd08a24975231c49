"""When the move last passed to the other side of a job."""

from __future__ import annotations

from uchiwa.store.clock import now
from uchiwa.store.models import Job


def passed(job_id: int) -> None:
    """The move has passed just now."""
    Job.update(moved_at=now()).where(Job.id == job_id).execute()
