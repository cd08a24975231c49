"""Processes that do one thing for the worker, forked from one that has everything loaded."""

from __future__ import annotations

import logging
import os
import sys
import threading
from collections.abc import Callable
from multiprocessing.connection import Connection
from multiprocessing.context import ForkServerProcess
from typing import Any

from uchiwa import forking
from uchiwa.core.logs.readers import apart
from uchiwa.store.database import connect_to, is_lost
from uchiwa.store.place import Place

DONE, FAILED, NO_DATABASE = 0, 1, 2
_log = logging.getLogger("uchiwa.work")

LOADED = "uchiwa.worker.preloaded"
"""For a worker that runs alone; one of `uchiwa serve` shares the process in which everything is loaded."""


def _end_with(parent: Connection) -> None:
    """End this process as soon as its parent has ended, however that came."""
    try:
        parent.recv()
    except (EOFError, OSError):
        os._exit(FAILED)


def _run(parent: Connection, work: Callable[..., None], given: tuple[Any, ...]) -> None:
    forking.begin_forked(f"uchiwa {work.__name__.strip('_')}")
    threading.Thread(target=_end_with, args=(parent,), daemon=True).start()
    place = Place.load()
    if place is None:
        sys.exit(NO_DATABASE)
    connect_to(place)
    apart.already_apart()
    # A damaged file can leave a library with objects that cannot even be taken down; nobody needs to read of that.
    sys.unraisablehook = lambda _: None
    do(work, *given)


def do(work: Callable[..., None], *given: Any) -> None:
    """Do what a process is for; a database that is gone, as when everything is being stopped, ends it without a traceback.

    Raises:
        SystemExit: the database is gone.
    """
    try:
        work(*given)
    except Exception as error:
        if not is_lost(error):
            raise
        _log.warning("%s ends: the database does not answer", work.__name__.strip("_"))
        sys.exit(NO_DATABASE)


class Child:
    """A process at work.

    Args:
        work: a function of a module, which connects to nothing: its process is connected already.
        given: its arguments, which can be pickled.
    """

    def __init__(self, work: Callable[..., None], *given: Any) -> None:
        context = forking.context(LOADED)
        theirs, self._held = context.Pipe(duplex=False)
        self.process: ForkServerProcess = context.Process(target=_run, args=(theirs, work, given))
        self.process.start()
        theirs.close()

    @property
    def over(self) -> bool:
        """Whether it has ended."""
        return self.process.exitcode is not None

    def kill(self) -> None:
        """End it at once."""
        self.process.kill()
        self.process.join()

    def close(self) -> int:
        """Take it down after its end; its exit code."""
        code = self.process.exitcode
        self.process.close()
        self._held.close()
        return FAILED if code is None else code
