"""Answers to concerns: accepted with a reason."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.review.concern import Concern
from uchiwa.store import events
from uchiwa.store.clock import now
from uchiwa.store.models import Answer, Job, Round, User

SHORTEST = 3


def of(job: Job, concerns: tuple[Concern, ...]) -> dict[str, Answer]:
    """The answers that concerns have, by their keys; the newest of each."""
    keys = [concern.key for concern in concerns]
    if not keys:
        return {}
    found = (
        Answer.select(Answer, User).join(User).where(Answer.job == job, Answer.concern.in_(keys)).order_by(Answer.id)
    )
    return {answer.concern: answer for answer in found if answer.reason}


def give(job: Job, round_: Round, author: User, concern: Concern, reason: str) -> None:
    """Accept a concern with a reason.

    Raises:
        BadInput: there is no reason.
    """
    words = " ".join(reason.split())[:500]
    if len(words) < SHORTEST:
        raise BadInput("an answer needs its reason", advice="say in a few words why this is right")
    Answer.insert(
        job=job,
        round=round_,
        concern=concern.key,
        rule=concern.rule,
        sentence=concern.sentence[:500],
        reason=words,
        author=author,
        at=now(),
    ).on_conflict(
        preserve=(Answer.round, Answer.rule, Answer.sentence, Answer.reason, Answer.author, Answer.at)
    ).execute()
    events.record(job, "answer", f"Accepted: {concern.sentence} ({words})", author=author, round_=round_)


def take_back(job: Job, key: str) -> None:
    """Open a concern again."""
    Answer.delete().where(Answer.job == job, Answer.concern == key).execute()
