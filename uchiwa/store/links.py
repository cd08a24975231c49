"""Customer links: secret addresses without an account. Only a hash of the token is kept."""

from __future__ import annotations

import hashlib
import secrets
from datetime import datetime, timedelta

from peewee import Expression

from uchiwa.store import attempts, keys
from uchiwa.store.clock import now
from uchiwa.store.database import connected, database, run_again
from uchiwa.store.models import Car, Customer, CustomerLink, Job, Shop
from uchiwa.store.rows import first

_TOKEN_BYTES = 24
GUESSES = 30
WINDOW = timedelta(minutes=10)


class TooManyGuessesError(RuntimeError):
    """Too many unknown links were asked for from one network address."""


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def make(job: Job) -> str:
    """A new link for a locked job in place of any other; its token, which is shown once and kept nowhere."""
    revoke(job)
    token = secrets.token_urlsafe(_TOKEN_BYTES)
    CustomerLink.create(job=job, token_hash=_hash(token), made_at=now(), expires_at=_end(job))
    return token


def for_mail(job: Job, mail_key: str) -> str | None:
    """The token of the link that one mail to a locked job's customer carries, the same however often it is written.

    None if the job has no link that works: who was shut out is not let in again by a mail.
    """
    if current(job) is None:
        return None
    # Written for the first time, it follows from the newest secret; written again, from the one of then.
    tokens = {_hash(one): one for one in (keys.derived("customer's link", mail_key, secret) for secret in keys.ring())}
    newest = next(iter(tokens))
    before = first(CustomerLink.select().where(CustomerLink.token_hash.in_(list(tokens))))
    made = before.token_hash if before is not None else newest
    CustomerLink.insert(job=job, token_hash=made, made_at=now(), expires_at=_end(job), mail_key=mail_key).on_conflict(
        update={CustomerLink.id: CustomerLink.id}
    ).execute()
    works = CustomerLink.select().where(CustomerLink.token_hash == made, CustomerLink.revoked_at.is_null())
    return tokens[made] if first(works) is not None else None


def _end(job: Job) -> datetime:
    return now() + timedelta(days=int(job.shop.link_days))


def revoke(job: Job) -> None:
    """End every link of a job, those in mails too."""
    CustomerLink.update(revoked_at=now()).where(CustomerLink.job == job, CustomerLink.revoked_at.is_null()).execute()


def _works() -> Expression:
    return CustomerLink.revoked_at.is_null() & (CustomerLink.expires_at.is_null() | (CustomerLink.expires_at > now()))


def current(job: Job) -> CustomerLink | None:
    """The link that works and was handed out on the page, if there is one."""
    return first(
        CustomerLink.select()
        .where(CustomerLink.job == job, CustomerLink.mail_key == "", _works())
        .order_by(CustomerLink.id.desc())
    )


def open_job(token: str) -> Job | None:
    """The job a token opens, or None. A good token opens its job however many others were guessed.

    A link lasts as long after it was used as the shop says.
    """
    link = CustomerLink.get_or_none(CustomerLink.token_hash == _hash(token), _works())
    if link is None:
        return None
    job = first(
        Job.select(Job, Car, Customer, Shop)
        .join(Car)
        .join(Customer)
        .switch(Job)
        .join(Shop)
        .where(Job.id == link.job_id)
    )
    if job is not None and (link.seen_at is None or abs(now() - link.seen_at) > timedelta(minutes=1)):
        CustomerLink.update(seen_at=now(), expires_at=_end(job)).where(CustomerLink.id == link.id).execute()
    return job


@run_again
def works(token: str) -> bool:
    """Whether a token still opens its job; in one plain statement, for it is asked again and again."""
    statement = (
        "SELECT 1 FROM customer_link WHERE token_hash = %s AND revoked_at IS NULL "
        "AND (expires_at IS NULL OR expires_at > %s)"
    )
    with connected():
        return database.execute_sql(statement, (_hash(token), now())).fetchone() is not None


def count_guess(address: str) -> None:
    """Count an unknown token against the network address it came from.

    Raises:
        TooManyGuessesError: there were too many of late.
    """
    if attempts.count(attempts.mark("link", address), WINDOW) > GUESSES:
        raise TooManyGuessesError
