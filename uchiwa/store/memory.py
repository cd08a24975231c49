"""What people said about channels: for a car, and for every log of the shop with the same header."""

from __future__ import annotations

import hashlib

from uchiwa.core.logs.log import Log
from uchiwa.core.logs.recognition.knowledge import Assignment, channel_key
from uchiwa.store.models import Car, ChannelMemory, Customer, Shop


def header_of(log: Log) -> str:
    """A mark of a logger's header: its channels' names and units, in any order."""
    keys = sorted(
        channel_key(channel.name, channel.source_unit) for raster in log.rasters for channel in raster.channels
    )
    return hashlib.sha256("\n".join(keys).encode()).hexdigest()


def scope_of(car_id: int | None, header: str) -> str:
    """What a word about a channel holds for: a car, or else a header."""
    return f"header:{header}" if car_id is None else f"car:{car_id}"


def remember(car: Car, header: str, channel: str, said: Assignment, shop_id: int | None = None) -> None:
    """Keep what a channel is, for the car and for the header; it replaces what was said before.

    Args:
        channel: its `channel_key`.
        said: its unit is empty where the file's is right.
    """
    shop = shop_id if shop_id is not None else Customer.get_by_id(car.customer_id).shop_id
    for own_car, own_header in ((car.id, ""), (None, header)):
        if own_car is None and not own_header:
            continue
        ChannelMemory.insert(
            shop=shop,
            car=own_car,
            header=own_header,
            scope=scope_of(own_car, own_header),
            channel=channel[:255],
            quantity=said.quantity,
            unit=(said.unit or "")[:40],
        ).on_conflict(preserve=(ChannelMemory.quantity, ChannelMemory.unit)).execute()


def forget(car: Car, shop: Shop | int, header: str, name: str, unit: str) -> None:
    """Drop what was said about a channel, so that it is recognised by itself again."""
    key = channel_key(name, unit)[:255]
    ChannelMemory.delete().where(
        ChannelMemory.shop == shop,
        ChannelMemory.channel == key,
        (ChannelMemory.car == car) | (ChannelMemory.header == header) & ChannelMemory.car.is_null(),
    ).execute()


def recall(car: Car, shop_id: int, header: str) -> dict[str, Assignment]:
    """What was said that holds for a log of a car; the car's own goes before the header's."""
    rows = ChannelMemory.select().where(
        ChannelMemory.shop == shop_id,
        (ChannelMemory.car == car) | (ChannelMemory.car.is_null() & (ChannelMemory.header == header)),
    )
    found: dict[str, Assignment] = {}
    for row in sorted(rows, key=lambda memory: memory.car_id is not None):
        found[row.channel] = Assignment(row.quantity, row.unit or None)
    return found
