"""What a shop has set for itself: thresholds, checks and temporary setups."""

from __future__ import annotations

from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.store.models import Shop


def shop_of(shop_id: int) -> Shop:
    """A shop as it is now."""
    found: Shop = Shop.get_by_id(shop_id)
    return found


def keep_thresholds(shop_id: int, limits: Thresholds) -> None:
    """Have logs that come from now on checked by other limits."""
    Shop.update(thresholds=limits.model_dump_json()).where(Shop.id == shop_id).execute()


def keep_own_checks(shop_id: int, document: str) -> None:
    """Keep the shop's own checks, as written by `own.dumps`."""
    Shop.update(own_checks=document).where(Shop.id == shop_id).execute()
