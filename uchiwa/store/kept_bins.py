"""Gatherings that a shop keeps under a name, to be used on any car."""

from __future__ import annotations

import json
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gathering import Gathering
from uchiwa.store.locks import lock_shop
from uchiwa.store.models import Shop

MOST = 60


@dataclass(frozen=True)
class KeptBins:
    """A gathering under its name, and the purpose of the rounds in which it is offered first; empty for any."""

    name: str
    purpose: str
    asked: Gathering


def of_shop(shop_id: int, purpose: str = "") -> list[KeptBins]:
    """A shop's gatherings: those of a purpose first, then by name."""
    shop = Shop.get_by_id(shop_id)
    found = [
        KeptBins(entry["name"], entry["purpose"], Gathering.read(entry["asked"], entry["name"]))
        for entry in json.loads(shop.own_bins)
    ]
    return sorted(found, key=lambda bins: (bins.purpose != purpose, bins.name.lower()))


def keep(shop_id: int, kept: KeptBins) -> None:
    """Keep a gathering in place of one of the same name; one person after another.

    Raises:
        BadInput: it has no name, or the shop has too many.
    """
    name = " ".join(kept.name.split())[:80]
    if not name:
        raise BadInput("a gathering needs a name", advice="type one")
    shop = lock_shop(shop_id)
    own = [entry for entry in json.loads(shop.own_bins) if entry["name"] != name]
    if len(own) >= MOST:
        raise BadInput(f"a shop keeps at most {MOST} gatherings", advice="drop one first")
    own.append({"name": name, "purpose": kept.purpose, "asked": kept.asked.model_dump(mode="json")})
    Shop.update(own_bins=json.dumps(own, ensure_ascii=False)).where(Shop.id == shop_id).execute()


def drop(shop_id: int, name: str) -> None:
    """Forget a gathering."""
    shop = lock_shop(shop_id)
    own = [entry for entry in json.loads(shop.own_bins) if entry["name"] != name]
    Shop.update(own_bins=json.dumps(own, ensure_ascii=False)).where(Shop.id == shop_id).execute()
