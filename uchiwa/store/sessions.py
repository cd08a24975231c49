"""Sessions of people who are signed in, kept at the server so that signing out ends them for good; and flash messages."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Flash, Shop, User, WebSession
from uchiwa.store.rows import first

LASTS = timedelta(days=14)
_SEEN_EVERY = timedelta(minutes=10)
_FLASH_LASTS = timedelta(hours=1)
_FLASH_LIMIT = 2000
_TOKEN_BYTES = 24


def new_token() -> str:
    """A session's secret name, which only its browser has."""
    return secrets.token_urlsafe(_TOKEN_BYTES)


def _hash(token: str) -> str:
    return hashlib.sha256(f"session {token}".encode()).hexdigest()


def begin(user: User) -> str:
    """Sign a person in on a device; the session's token."""
    token = new_token()
    with unit_of_work():
        WebSession.create(token_hash=_hash(token), user=user, made_at=now(), seen_at=now())
    return token


@run_again
def person_of(token: str) -> User | None:
    """The person of a session with their shop, if it has not ended.

    A session ends two weeks after it was seen last. One that was seen in the future, as after the clock was set back,
    counts as seen now.
    """
    with unit_of_work():
        query = WebSession.select(WebSession, User, Shop).join(User).join(Shop)
        found = first(query.where(WebSession.token_hash == _hash(token)))
        if found is None:
            return None
        age = now() - found.seen_at
        if age > LASTS:
            WebSession.delete().where(WebSession.id == found.id).execute()
            return None
        if age > _SEEN_EVERY or age < -_SEEN_EVERY:
            WebSession.update(seen_at=now()).where(WebSession.id == found.id).execute()
        return found.user


@run_again
def end(token: str) -> None:
    """Sign out: whoever has the token, it opens nothing any more."""
    with unit_of_work():
        WebSession.delete().where(WebSession.token_hash == _hash(token)).execute()


@run_again
def say(token: str, text: str, *, bad: bool) -> None:
    """Keep a sentence for the next page that a browser is shown."""
    with unit_of_work():
        Flash.delete().where(Flash.session_hash == _hash(token)).execute()
        Flash.create(session_hash=_hash(token), text=text[:_FLASH_LIMIT], bad=bad, at=now())


@run_again
def said(token: str) -> tuple[str, bool] | None:
    """What was kept for this browser, which is forgotten now: the text, and whether it is bad news."""
    with unit_of_work():
        rows = list(Flash.select().where(Flash.session_hash == _hash(token)).order_by(Flash.id))
        if not rows:
            return None
        if not Flash.delete().where(Flash.id.in_([row.id for row in rows])).execute():
            return None
        return rows[-1].text, rows[-1].bad


@run_again
def drop_old() -> None:
    """Forget sessions that have ended by age, and sentences that nobody came to read."""
    with unit_of_work():
        WebSession.delete().where(WebSession.seen_at < now() - LASTS).execute()
        Flash.delete().where(Flash.at < now() - _FLASH_LASTS).execute()
