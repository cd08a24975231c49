"""Freezing a draft into what goes to the customer, and what the report tells of it."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from uchiwa import __version__
from uchiwa.core.checks.finding import Finding
from uchiwa.core.errors import BadInput
from uchiwa.core.review.concern import Concern
from uchiwa.core.review.reviewed import VisitedCells
from uchiwa.core.tables.attribution import by_reason
from uchiwa.core.tables.difference import TableDifference
from uchiwa.services.mail.telling import tell_customer
from uchiwa.services.review import ReviewWork, review_work
from uchiwa.services.visits import visits
from uchiwa.store import briefs, drafts, events, findings, images, jobs, revisions, setups
from uchiwa.store.acting import Acting
from uchiwa.store.models import Answer, Job, LogFile, Revision, Round, User


@dataclass(frozen=True, eq=False)
class ChangedTable:
    """A changed table as the report tells it.

    Attributes:
        change: before and after.
        reasons: what made how many of its cells.
        visited: what the logs say of it, or None.
    """

    change: TableDifference
    reasons: tuple[tuple[str, int], ...]
    visited: VisitedCells | None


@dataclass(frozen=True, eq=False)
class Account:
    """Everything a report of a revision tells.

    Attributes:
        work: the review the revision went through.
        tables: that differ.
        logs: of the round, with their findings.
        answered: concerns with the answers they got.
    """

    work: ReviewWork
    tables: tuple[ChangedTable, ...]
    logs: tuple[tuple[LogFile, tuple[Finding, ...]], ...]
    answered: tuple[tuple[Concern, Answer], ...]


def account(job: Job, round_: Round) -> Account:
    """What would be told if the draft were frozen now."""
    work = review_work(job, round_)
    old = {table.id: table for table in work.base.tables}
    logs = jobs.spark_logs(round_)
    tables = tuple(
        ChangedTable(
            table,
            by_reason(table.table, old[table.table.id], work.steps),
            visits(logs, table.table).visited if logs else None,
        )
        for table in work.change.tables
    )
    found = findings.of_logs(logs)
    answered = tuple((concern, work.answers[concern.key]) for concern in work.concerns if concern.key in work.answers)
    return Account(work, tables, tuple((log, tuple(found.get(log.id, ()))) for log in logs), answered)


def led_to_by(told: Account) -> dict[str, Any]:
    """What a revision is kept with beside its steps: logs, answers and the version of the program."""
    return {
        "logs": [{"id": log.id, "name": log.name, "sha256": log.content_hash} for log, _ in told.logs],
        "answers": [
            {"rule": concern.rule, "sentence": concern.sentence, "reason": answer.reason, "by": answer.author.name}
            for concern, answer in told.answered
        ],
        "notes": [concern.sentence for concern in told.work.concerns],
        "program": __version__,
    }


Reporting = Callable[[Revision, Account, str], str]
"""Writes the report of a revision as HTML, from what is told of it and the hash of its image, which may be empty."""


def freeze(by: Acting, notes: str, reporting: Reporting, *, final: bool) -> Revision:
    """Freeze the draft, with the image it goes out as and the report as it stands now.

    Raises:
        BadInput: a concern is not answered, the image cannot hold it, or a final one is asked for while a temporary
            setup is in force.
        StaleDraftError: the draft has changed since the person looked.
    """
    job = by.job
    drafts.as_seen(job, by.version)
    if final:
        setups.must_be_off(job)
    told = account(job, by.round)
    unanswered = told.work.open
    if unanswered:
        raise BadInput(
            f"{len(unanswered)} of the review's concerns {'is' if len(unanswered) == 1 else 'are'} open: {unanswered[0].sentence}",
            advice="answer or mend them on the Review station first",
        )
    revision = revisions.freeze(by, notes, final=final, led_to_by=led_to_by(told))
    image = images.of_job(job)
    if image is not None:
        images.keep_for(revision, image, told.work.content)
    sent = images.of_revision(revision)
    revisions.keep_report(revision, reporting(revision, told, sent.content_hash if sent is not None else ""))
    tell_customer("return", job, f"return:{revision.id}", revision=revision.number)
    return revision


def withdraw(job: Job, author: User, number: int, why: str) -> Revision:
    """Withdraw the revision that was sent last, and tell the customer at once.

    Raises:
        BadInput, ConflictError: as `revisions.withdraw`.
    """
    revision = revisions.withdraw(job, author, number, why)
    words = " ".join(why.split())
    tell_customer("withdrawn", job, f"withdrawn:{revision.id}", revision=number, why=words)
    return revision


def next_brief(job: Job) -> str:
    """The brief of the round that follows, as JSON; empty if there is none yet."""
    brief = briefs.of_round(jobs.rounds(job)[-1])
    return brief.model_dump_json(indent=1) if brief is not None else ""


def inputs_of(job: Job, revision: Revision) -> dict[str, Any]:
    """Everything a revision was frozen with."""
    for event in events.history(job):
        if event.kind == "freeze" and event.round_id == revision.round_id:
            found: dict[str, Any] = json.loads(event.inputs)
            return found
    return {}
