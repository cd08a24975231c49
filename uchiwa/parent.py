"""A process that is of no use without the one that started it."""

from __future__ import annotations

import multiprocessing
import os
import signal
import threading
import time
from multiprocessing.connection import wait

_LOOK_S = 0.3
_INIT = 1


def end_with_parent(parent: int | None = None) -> None:
    """End this process when the one that started it has ended, however that came; told to stop first, so that it can tidy up.

    Args:
        parent: its process id, for a process that was started as a command; by default the process that wanted this one.
    """
    threading.Thread(target=_watch, args=(parent,), daemon=True).start()


def _watch(parent: int | None) -> None:
    wanted_by = multiprocessing.parent_process()
    above = os.getppid() if parent is None else parent
    if parent is None and wanted_by is None:
        return  # nobody started it but a person
    # The one it was forked from counts, too: without it, nobody would learn of the end of this one.
    while os.getppid() == above != _INIT:
        if wanted_by is None or parent is not None:
            time.sleep(_LOOK_S)
        elif wait([wanted_by.sentinel], _LOOK_S):
            break
    os.kill(os.getpid(), signal.SIGTERM)
    time.sleep(10)
    os._exit(1)
