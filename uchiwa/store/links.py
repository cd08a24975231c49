"""Customer links: secret addresses without an account. Only a hash of the token is kept."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from uchiwa.store.clock import now
from uchiwa.store.models import Car, Customer, CustomerLink, Job, Shop, SignInAttempt

_TOKEN_BYTES = 24
GUESSES = 30
WINDOW = timedelta(minutes=10)


class TooManyGuessesError(RuntimeError):
    """Too many unknown links were asked for from one network address."""


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def make(job: Job) -> str:
    """A new link for a job in place of any other; its token, which is shown once and kept nowhere."""
    revoke(job)
    token = secrets.token_urlsafe(_TOKEN_BYTES)
    CustomerLink.create(job=job, token_hash=_hash(token), made_at=now())
    return token


def revoke(job: Job) -> None:
    """End every link of a job."""
    CustomerLink.update(revoked_at=now()).where(CustomerLink.job == job, CustomerLink.revoked_at.is_null()).execute()


def current(job: Job) -> CustomerLink | None:
    """The link that works, if there is one."""
    return (
        CustomerLink.select()
        .where(CustomerLink.job == job, CustomerLink.revoked_at.is_null())
        .order_by(CustomerLink.id.desc())
        .first()
    )


def open_job(token: str, address: str) -> Job | None:
    """The job a token opens, or None; every unknown token counts against the address it came from.

    Raises:
        TooManyGuessesError: there were too many of late.
    """
    mark = hashlib.sha256(f"link {address}".encode()).hexdigest()
    since = now() - WINDOW
    if SignInAttempt.select().where(SignInAttempt.who == mark, SignInAttempt.at >= since).count() >= GUESSES:
        raise TooManyGuessesError
    link = CustomerLink.get_or_none(CustomerLink.token_hash == _hash(token), CustomerLink.revoked_at.is_null())
    if link is None:
        SignInAttempt.insert(who=mark, at=now()).execute()
        return None
    if link.seen_at is None or now() - link.seen_at > timedelta(minutes=1):
        CustomerLink.update(seen_at=now()).where(CustomerLink.id == link.id).execute()
    return (
        Job.select(Job, Car, Customer, Shop)
        .join(Car)
        .join(Customer)
        .switch(Job)
        .join(Shop)
        .where(Job.id == link.job_id)
        .first()
    )
