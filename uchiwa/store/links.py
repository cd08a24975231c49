"""Customer links: secret addresses without an account. Only a hash of the token is kept."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from uchiwa.store import attempts
from uchiwa.store.clock import now
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
    CustomerLink.create(job=job, token_hash=_hash(token), made_at=now())
    return token


def revoke(job: Job) -> None:
    """End every link of a job."""
    CustomerLink.update(revoked_at=now()).where(CustomerLink.job == job, CustomerLink.revoked_at.is_null()).execute()


def current(job: Job) -> CustomerLink | None:
    """The link that works, if there is one."""
    return first(
        CustomerLink.select()
        .where(CustomerLink.job == job, CustomerLink.revoked_at.is_null())
        .order_by(CustomerLink.id.desc())
    )


def open_job(token: str) -> Job | None:
    """The job a token opens, or None. A good token opens its job however many others were guessed."""
    link = CustomerLink.get_or_none(CustomerLink.token_hash == _hash(token), CustomerLink.revoked_at.is_null())
    if link is None:
        return None
    if link.seen_at is None or abs(now() - link.seen_at) > timedelta(minutes=1):
        CustomerLink.update(seen_at=now()).where(CustomerLink.id == link.id).execute()
    return first(
        Job.select(Job, Car, Customer, Shop)
        .join(Car)
        .join(Customer)
        .switch(Job)
        .join(Shop)
        .where(Job.id == link.job_id)
    )


def count_guess(address: str) -> None:
    """Count an unknown token against the network address it came from.

    Raises:
        TooManyGuessesError: there were too many of late.
    """
    if attempts.count(attempts.mark("link", address), WINDOW) > GUESSES:
        raise TooManyGuessesError
