"""The audit log: what was done about people, access and the shop's settings. The owner reads it; nothing changes it."""

from __future__ import annotations

from datetime import timedelta

from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import AuditEntry, User

KEPT = timedelta(days=730)
PAGE = 50
KINDS = {
    "shop-made": "made the shop",
    "signed-in": "signed in",
    "sign-in-refused": "was refused at sign-in",
    "signed-out": "signed out",
    "device-ended": "signed devices out",
    "invited": "invited",
    "invitation-ended": "withdrew the invitation of",
    "joined": "joined the shop",
    "role": "changed the role of",
    "operator-on": "made an operator of",
    "operator-off": "took the operator's part from",
    "disabled": "locked out",
    "enabled": "let in again",
    "erased": "erased the name of",
    "password": "set a new password",
    "reset-asked": "asked for a new password",
    "factor-on": "turned the second factor on",
    "factor-off": "turned the second factor off",
    "passkey-on": "added a passkey",
    "passkey-off": "removed a passkey",
    "recovery-used": "signed in with a recovery code",
    "address": "changed their e-mail address",
    "shop-settings": "changed the shop's settings",
    "link-made": "made a customer's link for",
    "link-renewed": "made the customer's link anew for",
    "link-ended": "ended the customer's link for",
    "customer-exported": "exported the data of",
    "customer-erased": "erased the data of",
    "job-exported": "exported",
    "log-exported": "exported the log",
    "token-made": "made a token for",
    "token-ended": "revoked the token for",
    "secret-rotated": "changed the installation's secret",
}
"""Kinds of entries, in words that stand between who did it and to what."""


def note(kind: str, *, shop_id: int | None, user: User | None = None, who: str = "", subject: str = "") -> None:
    """Add an entry, in the transaction of what it tells of.

    Args:
        kind: one of `KINDS`.
        shop_id: whose owner may read it; None for the installation's own.
        user: who did it; at the prompt there is nobody.
        who: their name, where there is no user.
        subject: whom or what it was done to.
    """
    if kind not in KINDS:
        raise ValueError(kind)
    AuditEntry.create(
        shop=shop_id, user=user, kind=kind, who=(user.name if user else who)[:120], subject=subject[:190], at=now()
    )


def of_shop(shop_id: int, before: int | None = None, limit: int = PAGE) -> list[AuditEntry]:
    """A shop's entries, newest first.

    Args:
        before: the id of an entry; only older ones.
        limit: at most so many.
    """
    query = AuditEntry.select().where(AuditEntry.shop == shop_id)
    if before is not None:
        query = query.where(AuditEntry.id < before)
    return list(query.order_by(AuditEntry.id.desc()).limit(limit))


@run_again
def drop_old() -> None:
    """Forget what is older than two years."""
    with unit_of_work():
        AuditEntry.delete().where(AuditEntry.at < now() - KEPT).execute()
