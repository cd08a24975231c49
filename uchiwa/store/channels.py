"""A shop's computed channels."""

from __future__ import annotations

import logging

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Book, Computed, check_channel
from uchiwa.store.clock import now
from uchiwa.store.locks import lock_shop
from uchiwa.store.models import ComputedChannel, User

_log = logging.getLogger("uchiwa.store")


def of_shop(shop_id: int) -> list[Computed]:
    """The shop's own, by name."""
    query = ComputedChannel.select().where(ComputedChannel.shop == shop_id).order_by(ComputedChannel.name)
    return [Computed(channel.name, channel.title, channel.formula, channel.unit) for channel in query]


def book_of(shop_id: int) -> Book:
    """The shop's own together with those that ship; its own go first."""
    own = of_shop(shop_id)
    try:
        return SHIPPED.with_channels(own)
    except BadInput:
        _log.exception("computed channels of shop %s cannot be used together", shop_id)
        return SHIPPED


def keep(author: User, computed: Computed) -> Book:
    """Keep a computed channel, in place of one of the same name; one after another, since channels use each other.

    Raises:
        BadInput: see `check_channel`.
    """
    lock_shop(author.shop_id)
    book = check_channel(computed, book_of(author.shop_id))
    kept = ComputedChannel
    kept.insert(
        shop=author.shop_id,
        name=computed.id,
        title=computed.title[:80],
        formula=computed.formula,
        unit=computed.unit[:32],
        author=author,
        at=now(),
    ).on_conflict(preserve=(kept.name, kept.title, kept.formula, kept.unit, kept.author, kept.at)).execute()
    return book


def drop(shop_id: int, name: str) -> None:
    """Drop one of the shop's own.

    Raises:
        BadInput: another computed channel needs it.
    """
    lock_shop(shop_id)
    book = book_of(shop_id)
    if name not in {computed.id for computed in SHIPPED}:
        needing = [computed.id for computed in book if computed.id != name and name in book.formula(computed.id).names]
        if needing:
            raise BadInput(f"{', '.join(needing)} is computed from {name}", advice="change that first")
    ComputedChannel.delete().where(ComputedChannel.shop == shop_id, ComputedChannel.name == name).execute()
