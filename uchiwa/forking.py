"""Processes forked from one that has everything loaded: each begins at once, and shares the memory of what is loaded.

The one they are forked from has neither threads of Python's nor connections, so that a fork breaks nothing.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import signal
from multiprocessing import forkserver, resource_tracker
from multiprocessing.context import ForkServerContext
from pathlib import Path

EVERYTHING = "uchiwa.loaded"
"""The module that has loaded web, worker and readers once it is imported."""
_NAME = Path("/proc/self/comm")


def context(loaded: str = EVERYTHING) -> ForkServerContext:
    """How processes are forked.

    Args:
        loaded: the module that has everything loaded, once it is imported. A process that was forked itself has its own forked
            from where it comes from as long as that lives, and this is not heeded.
    """
    found = multiprocessing.get_context("forkserver")
    found.set_forkserver_preload([loaded])
    return found


def begin_loading() -> None:
    """Begin to load everything, beside whatever this process does next; a Ctrl-C is for this one alone, as it ends the others."""
    context()
    resource_tracker.ensure_running()  # it lets signals through again at its end, so that it has to be there before
    let_through = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        forkserver.ensure_running()
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, let_through)


def begin_forked(name: str, environment: dict[str, str] | None = None) -> None:
    """What a forked process does first.

    Args:
        name: of the process, as `ps` and `top` show it; at most 15 letters.
        environment: of the process that wanted it, which may have changed since loading began.
    """
    os.environ.update(environment or {})
    call_oneself(name)
    _fork_from(os.getppid())


def call_oneself(name: str) -> None:
    """Have this process shown under a name of at most 15 letters."""
    with contextlib.suppress(OSError):
        _NAME.write_text(name)


def _fork_from(process_id: int) -> None:
    """Have this process' own processes forked from where it comes from.

    The documentation of multiprocessing says that it is so; in Python 3.11 a second one would be started, and load it all again.
    """
    server = forkserver._forkserver
    start_another = type(server).ensure_running

    def ensure_running() -> None:
        if os.getppid() == process_id:
            resource_tracker.ensure_running()
        else:
            start_another(server)

    setattr(server, "ensure_running", ensure_running)  # noqa: B010 - a method of this one alone
