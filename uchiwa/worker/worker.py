"""The worker: imports what was stored, several files at once and fair by shop, each in a process of its own.

What waits is told by the logs themselves, so that no queue can lose it, and any number of workers can run beside each
other.
"""

from __future__ import annotations

import logging
import os
import signal
import socket
import threading
import time
from multiprocessing.connection import wait

import pymysql
from peewee import PeeweeException
from playhouse.pool import MaxConnectionsExceeded

from uchiwa.core.errors import BadInput
from uchiwa.log_output import begin_logging
from uchiwa.parent import end_with_parent
from uchiwa.services.importing import refuse_worn_out
from uchiwa.services.mail import regularly
from uchiwa.settings import read_settings
from uchiwa.store import (
    accounts,
    attempts,
    audit,
    estimates,
    leases,
    levels,
    mails,
    one_time_links,
    schema,
    sessions,
    uploads,
    worker_beats,
)
from uchiwa.store.database import connect_to, database
from uchiwa.store.place import Place
from uchiwa.worker import import_process, mailing
from uchiwa.worker.live import Sessions
from uchiwa.worker.telling import Telling

BEAT_S = 5.0
SLOTS = max(4, (os.cpu_count() or 2) + 2)
"""Files imported at once; one shop has all but one of them at most, and one customer's link all but two, so that there is
always room for another's."""
_LOOK_S, _AT_REST_S = 0.2, 0.5
"""How often a worker looks for logs, and when there have been none for a while."""
_WHILE_S = 3.0
_PAUSE_S = 5.0
"""So long a log waits whose import the database could not take, as when its disk was full."""
_TIDY_S = 60.0
_NO_DATABASE = (PeeweeException, pymysql.MySQLError, MaxConnectionsExceeded, OSError)
_log = logging.getLogger("uchiwa.work")


def _beat(stop: threading.Event) -> None:
    name = f"{socket.gethostname()}:{os.getpid()}"[:64]
    while True:
        try:
            worker_beats.beat(name)
            leases.hold_on()
        except _NO_DATABASE:
            database.close()
        if stop.wait(BEAT_S):
            return


def tidy() -> None:
    """What is done once a minute: forget what is over, and finish what a stopped import has left undone."""
    uploads.drop_abandoned()
    sessions.drop_old()
    attempts.drop_old(accounts.WINDOW)
    estimates.drop_old()
    one_time_links.drop_old()
    audit.drop_old()
    mails.drop_old()
    regularly.remind_all()
    regularly.digest_all()
    for log in levels.missing():
        levels.build(log)


class Imports:
    """The imports that this worker looks after."""

    def __init__(self, slots: int = SLOTS) -> None:
        self.slots = slots
        self.running: list[import_process.Importing] = []
        self._waiting: dict[int, float] = {}
        self._busy = 0.0

    def look_after(self) -> None:
        """Take note of those that are over, and end those that take too long."""
        for importing in list(self.running):
            if importing.too_long and not importing.child.over:
                _log.warning("the import of log %s takes too long and is ended", importing.log.id)
                importing.end_for_time()
            if importing.child.over:
                self.running.remove(importing)
                if importing.finish():
                    self._waiting[importing.log.id] = time.monotonic() + _PAUSE_S

    def fill(self) -> None:
        """Begin as many more as there is room for."""
        at = time.monotonic()
        self._waiting = {log_id: until for log_id, until in self._waiting.items() if until > at}
        passed_over = set(self._waiting)
        if self.running:
            self._busy = at
        while len(self.running) < self.slots:
            log_id = leases.next_waiting(max(1, self.slots - 1), max(1, self.slots - 2), passed_over)
            if log_id is None:
                return
            log = leases.claim(log_id)
            if log is None:
                refuse_worn_out(log_id)
                passed_over.add(log_id)
            else:
                self.running.append(import_process.begin(log))

    def wait(self, seconds: float | None = None) -> None:
        """Until one of them is over, or for so long; by default until it is time to look for others."""
        if seconds is None:
            seconds = _LOOK_S if time.monotonic() - self._busy < _WHILE_S else _AT_REST_S
        ends = [importing.child.process.sentinel for importing in self.running]
        if ends:
            wait(ends, timeout=seconds)
        else:
            time.sleep(seconds)

    def stop(self) -> None:
        """End all of them; what they were at waits for the next worker."""
        for importing in self.running:
            importing.child.kill()
            try:
                leases.release(importing.log, counts=False)
            except _NO_DATABASE:
                continue
            finally:
                leases.let_go(importing.log)
        self.running.clear()


def work(parent: int | None = None) -> None:
    """Work in this process, against the database on file.

    Args:
        parent: process with whose end this one ends, too, if a command started it.

    Raises:
        BadInput: there is no database yet, or its schema is another version's.
    """
    begin_logging(read_settings())
    place = Place.load()
    if place is None:
        raise BadInput("there is no database yet", advice="run uchiwa db start first")
    connect_to(place)
    schema.check()
    run(parent)


def run(parent: int | None = None) -> None:
    """Work until told to stop (SIGINT or SIGTERM), or until the parent process has ended."""
    over = threading.Event()
    for one in (signal.SIGINT, signal.SIGTERM):
        signal.signal(one, lambda *_: over.set())
    threading.Thread(target=_beat, args=(over,), daemon=True).start()
    mailing.begin(over)
    end_with_parent(parent)
    imports, told, live = Imports(), Telling(), Sessions()
    tidied = -_TIDY_S
    try:
        while not over.is_set():
            try:
                imports.look_after()
                imports.fill()
                told.look_after()
                live.look_after()
                if time.monotonic() - tidied > _TIDY_S:
                    tidied = time.monotonic()
                    tidy()
                imports.wait()
            except _NO_DATABASE as error:
                _log.warning("the database does not answer: %s", error)
                database.close()
                over.wait(1.0)
    finally:
        over.set()
        imports.stop()
        told.stop()
        live.stop()
