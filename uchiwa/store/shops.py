"""A shop's own settings about people, mail and room, and what it takes."""

from __future__ import annotations

import json
from dataclasses import dataclass

from peewee import fn

from uchiwa.core.errors import BadInput
from uchiwa.core.typed_number import typed_number
from uchiwa.settings import read_settings
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LogFile, Shop
from uchiwa.store.names import name_typed
from uchiwa.store.rows import first, rows

MOST_DAYS = 365
_MOST_GIGABYTES = 100_000
_GIGABYTE = 1_000_000_000


def named(name: str) -> Shop | None:
    """The shop of a name, if there is one."""
    return first(Shop.select().where(Shop.name == " ".join(name.split())).order_by(Shop.id))


def that_remind() -> list[int]:
    """Shops that remind their customers."""
    with unit_of_work():
        return [shop.id for shop in Shop.select(Shop.id).where(Shop.remind_days > 0)]


def set_days(shop: Shop, remind_days: int, link_days: int) -> None:
    """After how many days customers are reminded, 0 for never, and how long their links last after use.

    Raises:
        BadInput: there are no such days.
    """
    if not 0 <= remind_days <= MOST_DAYS or not 1 <= link_days <= 10 * MOST_DAYS:
        raise BadInput(
            "that is no number of days", advice=f"remind after 0 to {MOST_DAYS}, let links last 1 to {10 * MOST_DAYS}"
        )
    Shop.update(remind_days=remind_days, link_days=link_days).where(Shop.id == shop.id).execute()


def rename(shop: Shop, name: str) -> None:
    """Call a shop something else.

    Raises:
        BadInput: that is no name.
    """
    Shop.update(name=name_typed(name, "the shop")).where(Shop.id == shop.id).execute()


def set_words(shop: Shop, code: str, subject: str, words: str) -> None:
    """Keep a shop's own words for a kind of mail; with neither, the usual ones hold again."""
    held = Shop.select(Shop.mail_words).where(Shop.id == shop.id).for_update().scalar()
    own = json.loads(held or "{}")
    if subject or words:
        own[code] = {"subject": subject, "words": words}
    else:
        own.pop(code, None)
    Shop.update(mail_words=json.dumps(own, ensure_ascii=False)).where(Shop.id == shop.id).execute()


@dataclass(frozen=True)
class Room:
    """What the raw logs of a shop take, and what they may, in bytes."""

    taken: int
    most: int

    @property
    def share(self) -> float:
        """Taken, of what there is."""
        return self.taken / self.most if self.most else 1.0


def room_of(shop: Shop) -> Room:
    """How much room a shop has."""
    taken = LogFile.select(fn.SUM(LogFile.size)).join(Job).where(Job.shop == shop.id, LogFile.source.is_null()).scalar()
    most = shop.quota_bytes if shop.quota_bytes is not None else int(read_settings().shop_gigabytes * _GIGABYTE)
    return Room(int(taken or 0), int(most))


def set_room(shop_id: int, gigabytes: str) -> None:
    """Give a shop a figure of its own for its raw logs; with an empty text the settings' holds.

    Raises:
        BadInput: that is no number of gigabytes.
    """
    most = None
    if gigabytes.strip():
        number = typed_number(gigabytes)
        if not 0 <= number <= _MOST_GIGABYTES:
            raise BadInput(f"“{gigabytes}” is no room", advice=f"give 0 to {_MOST_GIGABYTES} gigabytes")
        most = int(number * _GIGABYTE)
    Shop.update(quota_bytes=most).where(Shop.id == shop_id).execute()


def must_have_room(shop_id: int, size: int) -> None:
    """Refuses a log for which a shop has no room left.

    Raises:
        BadInput: says how much is taken.
    """
    room = room_of(Shop.get_by_id(shop_id))
    if room.taken + size > room.most:
        raise BadInput(
            f"the shop's logs take {room.taken / _GIGABYTE:.1f} GB of {room.most / _GIGABYTE:.1f} GB, and this one does not fit",
            advice="ask whoever looks after the installation for more room, or erase a customer's data that nobody needs",
        )


def sizes_of_jobs(shop_id: int, limit: int = 20) -> list[tuple[int, int, int]]:
    """The jobs of a shop whose raw logs take most: id, number of logs, bytes."""
    query = LogFile.select(LogFile.job, fn.COUNT(LogFile.id), fn.SUM(LogFile.size)).join(Job)
    query = query.where(Job.shop == shop_id, LogFile.source.is_null()).group_by(LogFile.job)
    found = rows(query.order_by(fn.SUM(LogFile.size).desc()).limit(limit))
    return [(int(job), int(number), int(size or 0)) for job, number, size in found]
