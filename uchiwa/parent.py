"""A process that is of no use without the one that started it."""

from __future__ import annotations

import os
import signal
import threading
import time

PARENT = "UCHIWA_PARENT"
"""Environment variable with the process that started others, for those that find it gone when they come to look."""
_LOOK_S = 0.3


def end_with_parent(parent: int | None = None) -> None:
    """End this process when its parent has ended, however that came; told to stop first, so that it can tidy up.

    Args:
        parent: process id; by default the one that said so, else whoever is the parent now.
    """
    mine = int(os.environ.get(PARENT, os.getppid())) if parent is None else parent
    if mine == os.getpid():
        return  # the one that started others serves by itself
    threading.Thread(target=_watch, args=(mine,), daemon=True).start()


def _watch(parent: int) -> None:
    while os.getppid() == parent:
        time.sleep(_LOOK_S)
    os.kill(os.getpid(), signal.SIGTERM)
    time.sleep(10)
    os._exit(1)
