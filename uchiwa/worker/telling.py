"""Telling what rounds' logs show, in a process of its own, so that no import waits for it."""

from __future__ import annotations

import logging
import os
import sys
import time

from uchiwa.services import log_cache, summaries
from uchiwa.settings import read_settings
from uchiwa.store import kept_results, untold
from uchiwa.store.database import has_no_room, is_lost
from uchiwa.store.place import Place
from uchiwa.worker.child import DONE, FAILED, NO_DATABASE, Child

_log = logging.getLogger("uchiwa.work")
_NICE = 10
_LONGEST_S = 300.0
_TRIES, _PAUSE_S = 5, 20.0


def _tell(round_id: int) -> None:
    os.nice(_NICE)
    place = Place.load()
    if place is not None:
        log_cache.share(kept_results.open_for(read_settings(), place))
    try:
        summaries.tell(round_id)
    except Exception as error:
        _log.exception("what round %s shows could not be told", round_id)
        sys.exit(NO_DATABASE if is_lost(error) or has_no_room(error) else FAILED)


class Telling:
    """The round that this worker tells of, one at a time, and those that it could not tell of."""

    def __init__(self) -> None:
        self.round_id: int | None = None
        self.child: Child | None = None
        self._until = 0.0
        self._failed: dict[int, tuple[int, float]] = {}

    def look_after(self) -> None:
        """Take note of its end, and begin with the next round."""
        if self.child is not None and self.round_id is not None:
            if time.monotonic() > self._until and not self.child.over:
                self.child.kill()
            if not self.child.over:
                return
            self._note(self.round_id, self.child.close())
            self.child = None
        self.round_id = untold.next_round(self._passed_over())
        if self.round_id is not None:
            self.child = Child(_tell, self.round_id)
            self._until = time.monotonic() + _LONGEST_S

    def _note(self, round_id: int, code: int) -> None:
        if code == DONE:
            self._failed.pop(round_id, None)
        elif code != NO_DATABASE:
            times = self._failed.get(round_id, (0, 0.0))[0] + 1
            self._failed[round_id] = (times, time.monotonic() + _PAUSE_S * times)

    def _passed_over(self) -> list[int]:
        return [
            round_id for round_id, (times, until) in self._failed.items() if times >= _TRIES or time.monotonic() < until
        ]

    def stop(self) -> None:
        """End it; the round waits for the next worker."""
        if self.child is not None:
            self.child.kill()
            self.child.close()
            self.child = None
