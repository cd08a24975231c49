"""Tokens with which programs act for a person. Only their hashes are kept; scopes say what they may do."""

from __future__ import annotations

import hashlib
import secrets
from datetime import timedelta

from uchiwa.core.errors import BadInput
from uchiwa.store import audit
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import ApiToken, Shop, User
from uchiwa.store.roles import OWNER, READER, TUNER
from uchiwa.store.rows import first

READ, SEND, FETCH = "read", "send", "fetch"
SCOPES = {
    READ: "see jobs, logs, findings, proposals and bins",
    SEND: "send logs",
    FETCH: "fetch calibrations and images of revisions",
}
"""Scopes with what each allows, in words."""
ALLOWED = {OWNER: tuple(SCOPES), TUNER: tuple(SCOPES), READER: (READ, FETCH)}
"""Scopes that a role can use, whatever a token was made with."""
PREFIX = "uchiwa_"
LASTS = (30, 90, 365)
"""Days for which a token may be made."""
MOST = 20
_SEEN_EVERY = timedelta(minutes=1)


def _hash(token: str) -> str:
    return hashlib.sha256(f"api {token}".encode()).hexdigest()


def make(user: User, name: str, scopes: list[str], days: int) -> str:
    """A new token; it is told this once.

    Raises:
        BadInput: it has no name or no scope, a scope is not known, or the person has too many.
    """
    plain = " ".join(name.split())[:80]
    if not plain:
        raise BadInput("a token needs a name", advice="say which program it is for")
    if not scopes or any(scope not in SCOPES for scope in scopes):
        raise BadInput("a token needs at least one of the scopes", advice=f"choose among {', '.join(SCOPES)}")
    if any(scope not in ALLOWED[user.role] for scope in scopes):
        raise BadInput("who looks on cannot send logs", advice="leave this scope out")
    if days not in LASTS:
        raise BadInput("a token lasts 30, 90 or 365 days", advice="choose one of these")
    if len(of_person(user)) >= MOST:
        raise BadInput(f"a person has at most {MOST} tokens", advice="revoke one first")
    token = PREFIX + secrets.token_urlsafe(32)
    ApiToken.create(
        user=user, name=plain, token_hash=_hash(token), scopes=" ".join(scope for scope in SCOPES if scope in scopes), made_at=now(),
        expires_at=now() + timedelta(days=days),
    )  # fmt: skip
    audit.note("token-made", shop_id=user.shop_id, user=user, subject=plain)
    return token


def of_person(user: User) -> list[ApiToken]:
    """A person's tokens that are not revoked, newest first."""
    query = ApiToken.select().where(ApiToken.user == user, ApiToken.revoked_at.is_null())
    return list(query.order_by(ApiToken.id.desc()))


def revoke(user: User, token_id: int) -> ApiToken | None:
    """Revoke a token of the person's own; it, if it was not already."""
    open_ = (ApiToken.id == token_id) & (ApiToken.user == user) & ApiToken.revoked_at.is_null()
    found = first(ApiToken.select().where(open_))
    if found is not None and ApiToken.update(revoked_at=now()).where(open_).execute():
        audit.note("token-ended", shop_id=user.shop_id, user=user, subject=found.name)
        return found
    return None


def may(token: ApiToken, scope: str) -> bool:
    """Whether a token opens what a scope stands for, now that its person has the role they have."""
    return scope in token.scopes.split() and scope in ALLOWED.get(token.user.role, ())


def end_of_person(user: User, role: str | None = None) -> int:
    """Revoke a person's tokens, in the caller's transaction; how many there were.

    Args:
        role: that the person has from now on: only tokens that were made for more than it allows.
    """
    ended = 0
    for token in of_person(user):
        if role is None or any(scope not in ALLOWED[role] for scope in token.scopes.split()):
            ended += int(ApiToken.update(revoked_at=now()).where(ApiToken.id == token.id).execute())
            audit.note("token-ended", shop_id=user.shop_id, user=user, subject=token.name)
    return ended


@run_again
def find(token: str) -> ApiToken | None:
    """The token with its person and shop, if it still works."""
    if not token.startswith(PREFIX) or len(token) > 200:
        return None
    with unit_of_work():
        query = ApiToken.select(ApiToken, User, Shop).join(User).join(Shop)
        found = first(
            query.where(
                ApiToken.token_hash == _hash(token), ApiToken.revoked_at.is_null(), ApiToken.expires_at > now(),
                User.disabled_at.is_null(),
            )
        )  # fmt: skip
        if found is not None and (found.seen_at is None or abs(now() - found.seen_at) > _SEEN_EVERY):
            ApiToken.update(seen_at=now()).where(ApiToken.id == found.id).execute()
        return found
