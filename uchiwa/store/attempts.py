"""How often something was tried of late, counted in the database, so that many at once cannot slip through."""

from __future__ import annotations

import hashlib
from datetime import timedelta

from peewee import fn

from uchiwa.store.clock import now
from uchiwa.store.database import database, run_again, unit_of_work
from uchiwa.store.models import Attempt

_COUNT = """
    INSERT INTO attempt (mark, since, count) VALUES (%s, %s, 1)
    ON DUPLICATE KEY UPDATE
      count = IF(since < %s OR since > %s, 1, count + 1),
      since = IF(since < %s OR since > %s, VALUES(since), since)
"""


def mark(kind: str, who: str) -> str:
    """What attempts are counted by; hashed, so that mistyped addresses and secrets are not kept."""
    return hashlib.sha256(f"{kind} {who}".encode()).hexdigest()


@run_again
def count(mark: str, window: timedelta) -> int:
    """Count one more attempt; how many there are within the window, this one too.

    A moment that lies in the future, as after the clock was set back, is not believed.
    """
    with unit_of_work():
        at = now()
        ends = (at - window, at + timedelta(minutes=1))
        database.execute_sql(_COUNT, (mark, at, *ends, *ends))
        return int(Attempt.select(Attempt.count).where(Attempt.mark == mark).for_update().scalar() or 1)


@run_again
def uncount(mark: str) -> None:
    """Take one attempt back: it was none that counts."""
    with unit_of_work():
        Attempt.update(count=fn.GREATEST(Attempt.count - 1, 0)).where(Attempt.mark == mark).execute()


@run_again
def drop_old(window: timedelta) -> None:
    """Forget what is older than the window."""
    with unit_of_work():
        Attempt.delete().where(Attempt.since < now() - window).execute()
