"""Signs of life of workers."""

from __future__ import annotations

from datetime import timedelta

from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import WorkerBeat

ALIVE = timedelta(seconds=20)
_FORGOTTEN = timedelta(days=1)


def alive() -> bool:
    """Whether a worker has given a sign of life of late; one in the future is from before the clock was set back."""
    with unit_of_work():
        at = now()
        return WorkerBeat.select().where(WorkerBeat.at >= at - ALIVE, WorkerBeat.at <= at + ALIVE).exists()


def beat(name: str) -> None:
    """A sign of life of a worker; those of others that are long gone are forgotten."""
    with unit_of_work():
        WorkerBeat.insert(name=name, at=now()).on_conflict(preserve=(WorkerBeat.at,)).execute()
        at = now()
        old = (WorkerBeat.at < at - _FORGOTTEN) | (WorkerBeat.at > at + _FORGOTTEN)
        WorkerBeat.delete().where(old, WorkerBeat.name != name).execute()
