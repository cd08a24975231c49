"""Sessions of people who are signed in, kept at the server so that signing out ends them for good; and flash messages."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from uchiwa.store.clock import now
from uchiwa.store.database import connected, database, run_again, unit_of_work
from uchiwa.store.models import Flash, Shop, User, WebSession
from uchiwa.store.rows import first

LASTS = timedelta(days=14)
_HALF_LASTS = timedelta(minutes=10)
_SEEN_EVERY = timedelta(minutes=10)
_FLASH_LASTS = timedelta(hours=1)
_FLASH_LIMIT = 2000
CONFIRMED_LASTS = timedelta(minutes=5)
"""So long after a sign-in or a confirmation nobody is asked again before something about access is changed."""
_CLOCK_SLACK = timedelta(seconds=5)
_TOKEN_BYTES = 24


def new_token() -> str:
    """A session's secret name, which only its browser has."""
    return secrets.token_urlsafe(_TOKEN_BYTES)


def _hash(token: str) -> str:
    return hashlib.sha256(f"session {token}".encode()).hexdigest()


def begin(user: User, device: str = "", *, half: bool = False) -> str:
    """Sign a person in on a device; the session's token.

    Args:
        device: names the browser in words.
        half: the second factor is still owed; until then the session opens nothing else.
    """
    token = new_token()
    with unit_of_work():
        WebSession.create(
            token_hash=_hash(token), user=user, made_at=now(), seen_at=now(), half=half, device=device[:80],
            confirmed_at=None if half else now(),
        )  # fmt: skip
    return token


def _with_person(token: str) -> WebSession | None:
    query = WebSession.select(WebSession, User, Shop).join(User).join(Shop)
    return first(query.where(WebSession.token_hash == _hash(token), User.disabled_at.is_null()))


@run_again
def person_of(token: str) -> User | None:
    """The person of a session with their shop, if it has not ended, and owes no second factor.

    A session ends two weeks after it was seen last. One that was seen in the future, as after the clock was set back,
    counts as seen now.
    """
    with unit_of_work():
        found = _with_person(token)
        if found is None or found.half:
            return None
        age = now() - found.seen_at
        if age > LASTS:
            WebSession.delete().where(WebSession.id == found.id).execute()
            return None
        if age > _SEEN_EVERY or age < -_SEEN_EVERY:
            WebSession.update(seen_at=now()).where(WebSession.id == found.id).execute()
        return found.user


@run_again
def confirm(token: str) -> None:
    """Note that the person of a session has just proved who they are."""
    with unit_of_work():
        WebSession.update(confirmed_at=now()).where(WebSession.token_hash == _hash(token)).execute()


@run_again
def is_confirmed(token: str) -> bool:
    """Whether the person of a session proved who they are within the last five minutes."""
    with unit_of_work():
        at = WebSession.select(WebSession.confirmed_at).where(WebSession.token_hash == _hash(token)).scalar()
    return at is not None and timedelta(0) <= now() - at + _CLOCK_SLACK <= CONFIRMED_LASTS + _CLOCK_SLACK


_MAY_SEE = (
    "SELECT 1 FROM web_session w JOIN user u ON u.id = w.user_id JOIN job j ON j.shop_id = u.shop_id "
    "WHERE w.token_hash = %s AND NOT w.half AND w.seen_at >= %s AND u.disabled_at IS NULL AND j.id = %s"
)


@run_again
def may_see(token: str, job_id: int) -> bool:
    """Whether a session's person may see a job; in one plain statement, for whoever watches is asked again and again."""
    with connected():
        return database.execute_sql(_MAY_SEE, (_hash(token), now() - LASTS, job_id)).fetchone() is not None


@run_again
def half_person_of(token: str) -> User | None:
    """The person who has given the password in this session, not long ago, and owes the second factor."""
    with unit_of_work():
        found = _with_person(token)
        fresh = found is not None and found.half and abs(now() - found.made_at) < _HALF_LASTS
        return found.user if found is not None and fresh else None


def of_person(user: User) -> list[WebSession]:
    """The devices on which a person is signed in, the one seen last first."""
    query = WebSession.select().where(WebSession.user == user, ~WebSession.half, WebSession.seen_at > now() - LASTS)
    return list(query.order_by(WebSession.seen_at.desc(), WebSession.id.desc()))


def is_of(session: WebSession, token: str) -> bool:
    """Whether a session is the one of this token."""
    return str(session.token_hash) == _hash(token)


def end_of_person(user: User, *, only: int | None = None, but: str | None = None) -> int:
    """Sign a person out on their devices, in the caller's transaction; how many there were.

    Args:
        only: the id of one session.
        but: the token of the session that stays.
    """
    query = WebSession.delete().where(WebSession.user == user)
    if only is not None:
        query = query.where(WebSession.id == only)
    if but is not None:
        query = query.where(WebSession.token_hash != _hash(but))
    return int(query.execute())


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
