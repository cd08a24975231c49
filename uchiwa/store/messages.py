"""A few words between tuner and customer."""

from __future__ import annotations

from uchiwa.store.clock import now
from uchiwa.store.models import Job, Message, User


def write(job: Job, text: str, author: User | None, once: str | None = None) -> str:
    """Keep a message; without an author it is the customer's. Empty ones are dropped.

    Args:
        once: names the form that it was written in; a form that is sent twice gives one message.

    Returns:
        Its words as they are kept.
    """
    words = text.strip()[:2000]
    if words:
        Message.insert(job=job, author=author, text=words, at=now(), once=once or None).on_conflict(
            update={Message.id: Message.id}
        ).execute()
    return words


def of(job: Job) -> list[Message]:
    """The latest fifty messages of a job, oldest first, with their authors."""
    query = (
        Message.select(Message, User)
        .left_outer_join(User)
        .where(Message.job == job)
        .order_by(Message.id.desc())
        .limit(50)
    )
    return list(query)[::-1]
