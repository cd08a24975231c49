"""An import in a process of its own, so that no file can hold up the worker, or take it down."""

from __future__ import annotations

import logging
import multiprocessing
import os
import sys
import threading
import time
from dataclasses import dataclass
from functools import cache
from multiprocessing.connection import Connection
from multiprocessing.context import ForkServerContext, ForkServerProcess

from uchiwa.core.readers import apart
from uchiwa.store import uploads
from uchiwa.store.database import connect_to, is_lost
from uchiwa.store.models import LogFile
from uchiwa.store.place import Place
from uchiwa.work.budget import Budget, budget_of
from uchiwa.work.imports import perform, tell_round

_log = logging.getLogger("uchiwa.work")
DONE, FAILED, NO_DATABASE = 0, 1, 2
TOO_LARGE = "Reading it takes more memory than a file of its size may. Export it again with fewer channels, one drive to a file."
_NICE, _MOST_NICE = 7, 15


@cache
def _context() -> ForkServerContext:
    """Children are forked from a process that has everything loaded, and neither threads nor connections."""
    context = multiprocessing.get_context("forkserver")
    context.set_forkserver_preload(["uchiwa.work.preloaded"])
    return context


def _end_with(parent: Connection) -> None:
    """End this process as soon as its parent has ended, however that came."""
    try:
        parent.recv()
    except (EOFError, OSError):
        os._exit(FAILED)


def _child(parent: Connection, log_id: int, owner: str, budget: Budget) -> None:
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    place = Place.load()
    if place is None:
        sys.exit(NO_DATABASE)
    connect_to(place)
    apart.already_apart()
    # A damaged file can leave a library with objects that cannot even be taken down; nobody needs to read of that.
    sys.unraisablehook = lambda _: None
    budget.limit_memory()
    try:
        log = uploads.held_by(log_id, owner)
        # A shop that sends many files at once waits behind one that sends a single one.
        os.nice(min(_NICE * uploads.waiting_beside(log), _MOST_NICE))
        try:
            perform(log)
        except MemoryError:
            uploads.refuse(log, TOO_LARGE)
            tell_round(log)
    except uploads.LeaseLostError:
        return
    except Exception as error:
        _log.exception("the import of log %s failed", log_id)
        sys.exit(NO_DATABASE if is_lost(error) else FAILED)


@dataclass
class Importing:
    """An import under way, seen from the worker."""

    log: LogFile
    process: ForkServerProcess
    held: Connection
    until: float

    @property
    def over(self) -> bool:
        """Whether its process has ended."""
        return self.process.exitcode is not None

    @property
    def too_long(self) -> bool:
        """Whether it has used up its time."""
        return time.monotonic() > self.until

    def kill(self) -> None:
        """End its process at once."""
        self.process.kill()
        self.process.join()

    def finish(self) -> None:
        """Leave the log as it should be after its process has ended: one that failed gets another try, or no more."""
        code = self.process.exitcode
        self.process.close()
        self.held.close()
        try:
            if code != DONE:
                _log.warning("the import of log %s ended with %s", self.log.id, code)
                uploads.release(self.log, counts=code != NO_DATABASE)
        finally:
            uploads.let_go(self.log)


def begin(log: LogFile) -> Importing:
    """Begin the import of a claimed log in a process of its own."""
    budget = budget_of(log.size)
    context = _context()
    theirs, ours = context.Pipe(duplex=False)
    process = context.Process(target=_child, args=(theirs, log.id, log.owner, budget))
    process.start()
    theirs.close()
    return Importing(log, process, ours, time.monotonic() + budget.seconds)
