"""What goes between tuner and customer, and tells the other side by mail."""

from __future__ import annotations

import secrets

from uchiwa.services.mail.telling import tell_customer, tell_tuners
from uchiwa.store import jobs, messages, revisions
from uchiwa.store.models import Job, Revision, User
from uchiwa.store.three_way import mark_of


def to_customer(job: Job, text: str, author: User, once: str) -> None:
    """Write to a job's customer."""
    words = messages.write(job, text, author, once)
    if words:
        tell_customer("message", job, _once(job, once), text=words, tuner=author.name)


def from_customer(job: Job, text: str, once: str) -> None:
    """Write to the tuner, as the customer."""
    words = messages.write(job, text, None, once)
    if words:
        tell_tuners("message-in", job, _once(job, once), text=words, round=jobs.latest_number(job.id))


def _once(job: Job, once: str) -> str:
    return f"message:{job.id}:{once or secrets.token_hex(8)}"


def brief_sent(job: Job, brief: str) -> None:
    """The customer's page shows this brief, as JSON, from now on."""
    tell_customer("brief", job, f"brief:{job.id}:{mark_of(brief)}")


def flashed(job: Job, revision: Revision) -> None:
    """The customer says that a revision is in the car."""
    revisions.flashed(job, revision)
    tell_tuners("flashed", job, f"flashed:{revision.id}", revision=revision.number)
