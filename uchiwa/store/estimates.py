"""What was estimated from logs at some cost and tells in a few numbers, kept for every process of the shop.

Only what follows from nothing but its key is kept here, so that it never has to be changed; what nobody asked for in a
month goes.
"""

from __future__ import annotations

import hashlib
import json
from datetime import timedelta
from typing import Any

from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Estimate

_KEPT = timedelta(days=30)


def mark_of(key: tuple[object, ...]) -> str:
    """A short name for everything that an estimate follows from."""
    return hashlib.sha256(repr(key).encode()).hexdigest()


def find(mark: str) -> Any:
    """An estimate as plain data, or None if it was not made yet."""
    document = Estimate.select(Estimate.document).where(Estimate.mark == mark).scalar()
    return None if document is None else json.loads(document)


@run_again
def keep(mark: str, data: Any) -> None:
    """Keep an estimate; whoever made the same at the same time has kept the same."""
    with unit_of_work():
        Estimate.insert(mark=mark, document=json.dumps(data), at=now()).on_conflict(preserve=(Estimate.at,)).execute()


@run_again
def drop_old() -> None:
    """Forget those of last month."""
    with unit_of_work():
        Estimate.delete().where(Estimate.at < now() - _KEPT).execute()
