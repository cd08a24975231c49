"""Somebody who changes a job's draft."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.store.models import Job, Round, User


@dataclass(frozen=True)
class Acting:
    """Who acts, in which round of which job, which version of the draft the person sees, and why."""

    job: Job
    round: Round
    author: User
    version: int
    why: str = ""
