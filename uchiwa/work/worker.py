"""The worker: huey's consumer on the same MariaDB, a sign of life, and a sweep for work whose worker died."""

from __future__ import annotations

import os
import signal
import socket
import threading
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from functools import cache
from typing import Any

from huey import crontab
from huey.contrib.sql_huey import SqlHuey
from peewee import MySQLDatabase, PeeweeException

from uchiwa.store import uploads
from uchiwa.store.clock import now
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import WorkerBeat
from uchiwa.work.imports import import_log

BEAT_S = 5.0
ALIVE = timedelta(seconds=20)


@dataclass(frozen=True)
class Queue:
    """huey on connections of its own to the database that `connect_to` has set, and its task."""

    huey: SqlHuey
    import_log: Callable[[int], Any]


@cache
def queue() -> Queue:
    """The one queue of this process."""
    own = MySQLDatabase(database.database, **_reach(database))
    huey = SqlHuey("uchiwa", database=own, results=False)
    task = huey.task(retries=2, retry_delay=5, name="import_log")(import_log)
    huey.periodic_task(crontab(minute="*"), name="sweep")(sweep)
    return Queue(huey, task)


def _reach(pool: Any) -> dict[str, Any]:
    wanted = ("host", "port", "user", "password", "charset")
    return {key: value for key, value in pool.connect_params.items() if key in wanted}


def enqueue_import(log_id: int) -> None:
    """Ask a worker to import a log. Should this be lost, the sweep finds the log by its state."""
    queue().import_log(log_id)


def sweep() -> None:
    """Import what was stored and never finished."""
    for log_id in uploads.waiting():
        import_log(log_id)
    uploads.drop_abandoned()


def alive() -> bool:
    """Whether a worker has given a sign of life of late."""
    with unit_of_work():
        return WorkerBeat.select().where(WorkerBeat.at >= now() - ALIVE).exists()


def _beat(stop: threading.Event, parent: int | None) -> None:
    name = f"{socket.gethostname()}:{os.getpid()}"[:64]
    while True:
        try:
            with unit_of_work():
                WorkerBeat.replace(name=name, at=now()).execute()
                WorkerBeat.delete().where(WorkerBeat.at < now() - timedelta(days=1)).execute()
            uploads.hold_on()
            for log_id in uploads.orphans():
                enqueue_import(log_id)
        except PeeweeException:
            database.close()
        if stop.wait(BEAT_S):
            return
        if parent is not None and os.getppid() != parent:
            os.kill(os.getpid(), signal.SIGTERM)
            return


def run(parent: int | None = None) -> None:
    """Work until told to stop (SIGINT or SIGTERM), or until the parent process has ended."""
    stop = threading.Event()
    beat = threading.Thread(target=_beat, args=(stop, parent), daemon=True)
    beat.start()
    sweep()
    consumer = queue().huey.create_consumer(
        workers=1, initial_delay=0.05, max_delay=0.5, backoff=1.2, check_worker_health=True
    )
    try:
        consumer.run()
    finally:
        stop.set()
        beat.join(timeout=2)
