"""Secret addresses that work once: for the first shop, to join one, to set a password anew. Only hashes are kept.

A link's token follows from the installation's secret and a nonce, so that a mail can be written, and written again, with no
secret in the database.
"""

from __future__ import annotations

import hashlib
import secrets
from datetime import datetime, timedelta

from peewee import IntegrityError

from uchiwa.store import keys
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import OneTimeLink, Shop, User
from uchiwa.store.rows import first

BEGIN, JOIN, RESET = "begin", "join", "reset"
LASTS = {BEGIN: timedelta(days=1), JOIN: timedelta(days=7), RESET: timedelta(hours=1)}
_KEPT = timedelta(days=30)
_BEGUN, _NEVER = "begun", datetime(9999, 1, 1)


class SpentLinkError(RuntimeError):
    """A link has been used, has ended, or never was."""


def _hash(kind: str, token: str) -> str:
    return hashlib.sha256(f"{kind} {token}".encode()).hexdigest()


def make(
    kind: str, *, shop_id: int | None = None, user: User | None = None, email: str = "", role: str = ""
) -> OneTimeLink:
    """A new link in place of others for the same, but for a new password; its token is `token_of`."""
    same = (OneTimeLink.kind == kind) & OneTimeLink.used_at.is_null()
    if kind == JOIN:
        same &= (OneTimeLink.shop == shop_id) & (OneTimeLink.email == email)
    if kind != RESET:  # a link to a new password stays until one is used: whoever asks anew ends none that is under way
        OneTimeLink.delete().where(same).execute()
    nonce = secrets.token_urlsafe(24)
    return OneTimeLink.create(
        kind=kind,
        nonce=nonce,
        token_hash=_hash(kind, keys.derived(kind, nonce)),
        shop=shop_id,
        user=user,
        email=email,
        role=role,
        made_at=now(),
        expires_at=now() + LASTS[kind],
    )


def token_of(link: OneTimeLink) -> str:
    """The secret part of a link's address.

    Raises:
        NoKeyError: the secret that it followed from has been taken away.
    """
    for secret in keys.ring():
        token = keys.derived(link.kind, link.nonce, secret)
        if _hash(link.kind, token) == link.token_hash:
            return token
    raise keys.NoKeyError("this link was made with a secret that has been taken away")


def _open() -> object:
    return OneTimeLink.used_at.is_null() & (OneTimeLink.expires_at > now())


def find(kind: str, token: str) -> OneTimeLink | None:
    """The link of a token, with its shop and person, if it still works."""
    query = OneTimeLink.select(OneTimeLink, Shop, User).left_outer_join(Shop).switch(OneTimeLink).left_outer_join(User)
    return first(query.where(OneTimeLink.token_hash == _hash(kind, token), _open()))


def spend(link: OneTimeLink) -> None:
    """Use a link up, in the transaction of what it is used for.

    Raises:
        SpentLinkError: somebody was quicker.
    """
    done = OneTimeLink.update(used_at=now()).where(OneTimeLink.id == link.id, _open()).execute()
    if not done:
        raise SpentLinkError
    if link.kind == RESET:
        others = (OneTimeLink.kind == RESET) & (OneTimeLink.user == link.user_id) & (OneTimeLink.id != link.id)
        OneTimeLink.delete().where(others, OneTimeLink.used_at.is_null()).execute()


def begin_once() -> None:
    """Note that the first shop is made, in the transaction that makes it: of two at once, the unique key lets one through.

    Raises:
        SpentLinkError: it was made already.
    """
    try:
        OneTimeLink.create(
            kind=_BEGUN, nonce=_BEGUN, token_hash=_hash(_BEGUN, _BEGUN), made_at=now(), expires_at=_NEVER, used_at=now()
        )
    except IntegrityError:
        raise SpentLinkError from None


def invitations(shop_id: int) -> list[OneTimeLink]:
    """Those of a shop that still work, newest first."""
    query = OneTimeLink.select().where(OneTimeLink.shop == shop_id, OneTimeLink.kind == JOIN, _open())
    return list(query.order_by(OneTimeLink.id.desc()))


def withdraw(shop_id: int, link_id: int) -> OneTimeLink | None:
    """End an invitation of a shop; it, if it still worked."""
    link = first(
        OneTimeLink.select().where(
            OneTimeLink.id == link_id, OneTimeLink.shop == shop_id, OneTimeLink.kind == JOIN, _open()
        )
    )
    if link is not None:
        OneTimeLink.delete().where(OneTimeLink.id == link.id).execute()
    return link


@run_again
def drop_old() -> None:
    """Forget links that ended a month ago."""
    with unit_of_work():
        OneTimeLink.delete().where(OneTimeLink.expires_at < now() - _KEPT).execute()
