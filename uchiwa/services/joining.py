"""How people come to have an account, and to have it again: the first shop, invitations, and passwords set anew."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import timedelta

from uchiwa.core.errors import BadInput
from uchiwa.services.mail.telling import tell_invited, tell_person
from uchiwa.store import accounts, attempts, audit, mails, one_time_links, passwords, people, roles
from uchiwa.store.addresses import address_typed
from uchiwa.store.clock import now
from uchiwa.store.models import OneTimeLink, Shop, User
from uchiwa.store.one_time_links import BEGIN, JOIN, RESET, SpentLinkError

RESETS, RESET_WINDOW = 3, timedelta(hours=1)
"""So many new passwords can be asked for an address in that time."""
RESETS_FROM_A_PLACE = 20
"""And so many from one network address."""


@dataclass(frozen=True)
class Newcomer:
    """What somebody types who makes an account."""

    email: str
    name: str
    password: str


def first_run() -> OneTimeLink | None:
    """The link at which the first shop is made, in place of any other; None once there is a person."""
    return one_time_links.make(BEGIN) if accounts.nobody_yet() else None


def begin(link: OneTimeLink, shop_name: str, owner: Newcomer) -> User:
    """Make the first shop and its owner, who also looks after the installation.

    Raises:
        BadInput: something typed cannot be used.
        SpentLinkError: there is a person already.
    """
    one_time_links.spend(link)
    one_time_links.begin_once()
    if not accounts.nobody_yet():
        raise SpentLinkError
    shop = accounts.create_shop(shop_name)
    user = accounts.create_user(shop, owner.email, owner.name, owner.password, roles.OWNER, operator=True)
    audit.note("shop-made", shop_id=shop.id, user=user, subject=shop.name)
    return user


def invite(shop: Shop, by: User | None, email: str, role: str) -> OneTimeLink:
    """Invite somebody into a shop, in place of an earlier invitation of theirs; its link, which a mail carries too.

    Raises:
        BadInput: that is no address or no role, or somebody signs in with the address already.
    """
    address = address_typed(email)
    roles.must_be_a_role(role)
    if accounts.is_taken(address):
        raise BadInput("somebody signs in with this address already", where=address, advice="use another")
    link = one_time_links.make(JOIN, shop_id=shop.id, email=address, role=role)
    who = by.name if by is not None else "Uchiwa"
    audit.note("invited", shop_id=shop.id, user=by, who=who, subject=f"{address} as {role}")
    tell_invited(link, by=who, role=role, may=roles.ROLES[role], until=f"{link.expires_at:%d %B %Y}")
    return link


def withdraw_invitation(shop_id: int, by: User, link_id: int) -> None:
    """End an invitation."""
    link = one_time_links.withdraw(shop_id, link_id)
    if link is not None:
        audit.note("invitation-ended", shop_id=shop_id, user=by, subject=link.email)


def join(link: OneTimeLink, name: str, password: str) -> User:
    """Make the account that a link invites to.

    Raises:
        BadInput: something typed cannot be used.
        SpentLinkError: somebody was quicker.
    """
    if link.shop is None:
        raise SpentLinkError
    one_time_links.spend(link)
    user = accounts.create_user(link.shop, link.email, name, password, link.role)
    audit.note("joined", shop_id=user.shop_id, user=user, subject=f"as {link.role}")
    return user


def ask_for_password(email: str, place: str) -> None:
    """Have somebody sent a link to set a new password. Whether anybody has this address is found out by who writes the mail.

    What is done here is the same for every address, so that neither words nor time tell which are known.

    Args:
        email: as it was typed.
        place: network address that it comes from.
    """
    try:
        address = address_typed(email)
    except BadInput:
        address = ""
    for_address = attempts.count(attempts.mark("reset", address), RESET_WINDOW)
    from_place = attempts.count(attempts.mark("reset from", place), RESET_WINDOW)
    if address and for_address <= RESETS and from_place <= RESETS_FROM_A_PLACE:
        mails.post("reset", address, f"reset-asked:{secrets.token_hex(12)}")


def reset_link(user: User, by: User | None) -> OneTimeLink:
    """A link at which a person sets a new password, which a mail carries to them too."""
    link = one_time_links.make(RESET, shop_id=user.shop_id, user=user)
    audit.note("reset-asked", shop_id=user.shop_id, user=by or user, subject=user.name if by else "")
    tell_person("reset", user, f"reset:{link.id}", link=link)
    return link


def set_password_anew(link: OneTimeLink, password: str) -> User:
    """Give the person of a link another password; they are signed out everywhere.

    Raises:
        BadInput: the password is too easily guessed.
        SpentLinkError: somebody was quicker, or the person is locked out.
    """
    user = people.with_address(link.user.email) if link.user is not None else None
    if user is None:
        raise SpentLinkError
    passwords.must_be_good(password, (user.email, user.name, user.shop.name))
    one_time_links.spend(link)
    people.set_password(user, password)
    changed(user, "password", "Your password was changed")
    return user


def changed(user: User, kind: str, what: str, *, address: str | None = None) -> None:
    """Note a change of somebody's account in the audit log, and tell them by mail.

    Args:
        kind: of the audit entry.
        what: in words.
        address: to which it is told, where it is not theirs any more.
    """
    audit.note(kind, shop_id=user.shop_id, user=user)
    tell_of(user, kind, what, address=address)


def tell_of(user: User, kind: str, what: str, *, address: str | None = None) -> None:
    """Tell a person by mail of a change of their account that the audit log has already."""
    at = now()
    once = f"account:{user.id}:{kind}:{at:%Y%m%d%H%M%S}"
    tell_person("account", user, once, address=address, what=what, at=f"{at:%d %B %Y, %H:%M}")
