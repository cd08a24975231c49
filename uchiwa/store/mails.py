"""Mails as durable tasks: posted in the transaction of what they tell of, sent once, tried again when that fails."""

from __future__ import annotations

import json
import secrets
import uuid
from datetime import datetime, timedelta
from typing import Any

from peewee import SQL, Expression, fn

from uchiwa.settings import read_settings
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Job, Mail, OneTimeLink, User
from uchiwa.store.rows import first, rows

WAITING, HELD, SENDING, SENT, FAILED, DROPPED = "waiting", "held", "sending", "sent", "failed", "dropped"
"""`held` waits for a person's digest."""
LEASE = timedelta(minutes=2)
PAUSES = tuple(timedelta(minutes=one) for one in (1, 5, 15, 60, 240, 720))
"""How long after each failure it is tried again; after the last it has failed."""
_KEPT = timedelta(days=90)
_DO_NOTHING = {Mail.id: Mail.id}


def enabled() -> bool:
    """Whether there is a mail server; without one, nothing is posted."""
    return bool(read_settings().mail_host)


def post(
    kind: str,
    recipient: str,
    once: str,
    *,
    shop_id: int | None = None,
    job: Job | None = None,
    user: User | None = None,
    link: OneTimeLink | None = None,
    details: dict[str, Any] | None = None,
    held: bool = False,
) -> None:
    """Have a mail sent, in the transaction of what it tells of; nothing without a recipient or a mail server.

    Args:
        kind: what it tells, from which its words follow.
        recipient: an address.
        once: names what is told; it is told once.
        shop_id: of the shop that tells.
        job: that it is about.
        user: to whom it goes, where that is one of the shop's people.
        link: that it carries.
        details: what its words need beyond what is in the database; no secrets.
        held: it waits for the person's digest.
    """
    if not recipient or not enabled():
        return
    Mail.insert(
        key=secrets.token_hex(16),
        once=once[:120],
        shop=shop_id,
        job=job,
        user=user,
        link=link,
        recipient=recipient,
        kind=kind,
        details=json.dumps(details or {}, ensure_ascii=False),
        state=HELD if held else WAITING,
        made_at=now(),
        due_at=now(),
        attempts=0,
        problem="",
        owner="",
    ).on_conflict(update=_DO_NOTHING).execute()


def _due() -> Expression:
    at = now()
    over = (Mail.lease_until < at) | (Mail.lease_until > at + 2 * LEASE) | Mail.lease_until.is_null()
    return ((Mail.state == WAITING) & (Mail.due_at <= at)) | ((Mail.state == SENDING) & over)


@run_again
def claim() -> Mail | None:
    """The next mail that is due, which is this process' to send for the length of a lease; None if there is none."""
    owner = str(uuid.uuid4())
    with unit_of_work():
        wanted = Mail.select(Mail.id).where(_due()).order_by(Mail.due_at, Mail.id).limit(1)
        found = wanted.for_update("FOR UPDATE SKIP LOCKED").scalar()  # type: ignore[arg-type]  # peewee takes the clause
        if found is None:
            return None
        Mail.update(state=SENDING, owner=owner, lease_until=now() + LEASE, attempts=Mail.attempts + 1).where(
            Mail.id == found
        ).execute()
        return Mail.get_by_id(found)


def _mine(mail: Mail) -> Expression:
    return (Mail.id == mail.id) & (Mail.owner == mail.owner) & (Mail.state == SENDING)


@run_again
def sent(mail: Mail) -> None:
    """The mail server has taken it."""
    with unit_of_work():
        Mail.update(state=SENT, sent_at=now(), lease_until=None, problem="").where(_mine(mail)).execute()


@run_again
def dropped(mail: Mail, why: str) -> None:
    """It has nothing to tell any more."""
    with unit_of_work():
        Mail.update(state=DROPPED, lease_until=None, problem=why[:300]).where(_mine(mail)).execute()


@run_again
def not_sent(mail: Mail, why: str, *, for_good: bool) -> None:
    """It could not be sent; it is tried again later, unless that is no use or was done often enough."""
    with unit_of_work():
        over = for_good or mail.attempts > len(PAUSES)
        pause = PAUSES[min(mail.attempts, len(PAUSES)) - 1]
        Mail.update(state=FAILED if over else WAITING, due_at=now() + pause, lease_until=None, problem=why[:300]).where(
            _mine(mail)
        ).execute()


def again(mail_id: int) -> bool:
    """Have a mail that has failed tried once more; whether there was one."""
    return bool(
        Mail.update(state=WAITING, due_at=now(), attempts=0).where(Mail.id == mail_id, Mail.state == FAILED).execute()
    )


def of_job(job: Job, limit: int = 20) -> list[Mail]:
    """The latest mails to a job's customer, newest first."""
    query = Mail.select().where(Mail.job == job, Mail.user.is_null())
    return list(query.order_by(Mail.id.desc()).limit(limit))


def failed(limit: int = 50) -> list[Mail]:
    """Mails that could not be sent, newest first."""
    return list(Mail.select().where(Mail.state == FAILED).order_by(Mail.id.desc()).limit(limit))


def counts() -> dict[str, int]:
    """How many mails there are in each state."""
    return {
        str(state): int(number)
        for state, number in rows(Mail.select(Mail.state, fn.COUNT(SQL("1"))).group_by(Mail.state))
    }


def oldest_due() -> datetime | None:
    """When the mail that has waited longest was due."""
    found: datetime | None = Mail.select(fn.MIN(Mail.due_at)).where(_due()).scalar()
    return found


def last_of(job: Job, kind: str) -> Mail | None:
    """The latest mail of a kind about a job."""
    return first(Mail.select().where(Mail.job == job, Mail.kind == kind).order_by(Mail.id.desc()))


def people_with_held(before: datetime) -> list[User]:
    """People for whom something waits for a digest that was posted before a moment."""
    waiting = Mail.select(Mail.user).where(Mail.state == HELD, Mail.made_at < before)
    return list(User.select().where(User.id.in_(waiting), User.disabled_at.is_null()))


def take_held(user: User) -> list[Mail]:
    """What waits for a person's digest, oldest first; it is done with, in the transaction of the digest."""
    held = list(Mail.select().where(Mail.user == user, Mail.state == HELD).order_by(Mail.id).for_update())
    if held:
        Mail.update(state=DROPPED, problem="told in a digest").where(Mail.id.in_([mail.id for mail in held])).execute()
    return held


def forget_jobs(shop_id: int, job_ids: list[int]) -> None:
    """Take what digests tell of jobs out of them, in the transaction in which the jobs are erased."""
    for mail in Mail.select().where(Mail.kind == "digest", Mail.shop == shop_id).for_update():
        details = json.loads(mail.details)
        if "lines" not in details:  # of a version that did not keep apart what is whose
            mail.delete_instance()
            continue
        lines = [[job_id, text] for job_id, text in details["lines"] if job_id not in job_ids]
        if len(lines) < len(details["lines"]):
            text = json.dumps(details | {"lines": lines}, ensure_ascii=False)
            Mail.update(details=text).where(Mail.id == mail.id).execute()


@run_again
def drop_old() -> None:
    """Forget mails that are done with, three months later; what was in them is in the jobs."""
    with unit_of_work():
        done = Mail.state.in_((SENT, DROPPED, FAILED))
        Mail.delete().where(done, Mail.made_at < now() - _KEPT).execute()
