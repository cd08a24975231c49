"""Live sessions as the worker has them: each looked at in a process of its own, and ended when it falls silent."""

from __future__ import annotations

import logging
import os
import sys
import time

from uchiwa.services.live import passing, watch_over
from uchiwa.store.database import has_no_room, is_lost
from uchiwa.worker.child import FAILED, NO_DATABASE, Child

MOST = 4
_LOOK_S = 1.0
_NICE = 12
_PAUSE_S = 5.0
_log = logging.getLogger("uchiwa.live")


def _watch(session_id: int) -> None:
    os.nice(_NICE)
    try:
        watch_over.watch_over(session_id)
    except Exception as error:
        _log.exception("live session %s could not be looked at", session_id)
        sys.exit(NO_DATABASE if is_lost(error) or has_no_room(error) else FAILED)


class Sessions:
    """The sessions that this worker looks at."""

    def __init__(self, most: int = MOST) -> None:
        self.most = most
        self.running: dict[int, Child] = {}
        self._looked = 0.0
        self._not_before: dict[int, float] = {}

    def look_after(self) -> None:
        """Take note of those that are over, end those that fell silent, and begin with others."""
        for session_id, child in list(self.running.items()):
            if child.over:
                del self.running[session_id]
                if child.close():
                    self._not_before[session_id] = time.monotonic() + _PAUSE_S
        if time.monotonic() - self._looked < _LOOK_S:
            return
        self._looked = time.monotonic()
        passing.end_silent()
        if len(self.running) >= self.most:
            return
        new = watch_over.unclaimed([one for one, at in self._not_before.items() if at > self._looked])
        if new is not None and new not in self.running:
            self.running[new] = Child(_watch, new)

    def stop(self) -> None:
        """Leave them to the next worker."""
        for child in self.running.values():
            child.kill()
            child.close()
        self.running.clear()
