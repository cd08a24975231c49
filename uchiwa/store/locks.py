"""The order in which rows are locked: shop, then job, then all that belongs to it.

Whoever changes something of a job takes its row first, in the first statement of the transaction: two people at one job
then wait for each other instead of each holding what the other needs, and what is read afterwards is what is there.
"""

from __future__ import annotations

from uchiwa.store.models import Job, Shop


def lock_job(job_id: int, shop_id: int | None = None) -> bool:
    """Take a job's row until the transaction ends; whether there is such a job (of a shop, if one is given)."""
    query = Job.select(Job.id).where(Job.id == job_id)
    if shop_id is not None:
        query = query.where(Job.shop == shop_id)
    return query.for_update().scalar() is not None


def lock_shop(shop_id: int) -> Shop:
    """Take a shop's row until the transaction ends; the shop as it is now."""
    return Shop.select().where(Shop.id == shop_id).for_update().get()
