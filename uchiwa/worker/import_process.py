"""An import in a process of its own, so that no file can hold up the worker, or take it down."""

from __future__ import annotations

import logging
import os
import sys
import time
from dataclasses import dataclass, field

from uchiwa.core.words.sentence import Sentence
from uchiwa.services.importing import read_and_check, refuse
from uchiwa.store import leases
from uchiwa.store.database import has_no_room, is_lost
from uchiwa.store.models import LogFile
from uchiwa.worker.budget import Budget, budget_of
from uchiwa.worker.child import DONE, FAILED, NO_DATABASE, Child

_log = logging.getLogger("uchiwa.work")
TOO_LARGE = Sentence(
    "Reading it takes more memory than a file of its size may. Export it again with fewer channels, one drive to a file."
)
_NICE, _MOST_NICE = 7, 15
TOO_LONG = Sentence(
    "Reading it takes far longer than a file of its size may: it is damaged, or made of far too many parts. The file is kept: "
    "export it again as plain text, one drive to a file."
)
_WORTH_NOTING_S = 5.0


def _import(log_id: int, owner: str, budget: Budget) -> None:
    budget.limit_memory()
    try:
        log = leases.held_by(log_id, owner)
        # A shop that sends many files at once waits behind one that sends a single one.
        os.nice(min(_NICE * leases.waiting_beside(log), _MOST_NICE))
        try:
            read_and_check(log)
        except MemoryError:
            refuse(log, TOO_LARGE)
    except leases.LeaseLostError:
        return
    except Exception as error:
        _log.exception("the import of log %s failed", log_id)
        sys.exit(NO_DATABASE if is_lost(error) or has_no_room(error) else FAILED)


@dataclass
class Importing:
    """An import under way, seen from the worker."""

    log: LogFile
    child: Child
    until: float
    begun: float = field(default_factory=time.monotonic)
    out_of_time: bool = False

    @property
    def too_long(self) -> bool:
        """Whether it has used up its time."""
        return time.monotonic() > self.until

    def end_for_time(self) -> None:
        """End it: its file has used up its time, and would do so again."""
        self.out_of_time = True
        self.child.kill()

    def finish(self) -> bool:
        """Leave the log as it should be after its process has ended: one that was killed gets another try, or no more.

        A file that used up its time is refused at once, as one that used up its memory was by its own process.

        Returns:
            Whether the database, not the file, is why it did not come to its end.
        """
        code = self.child.close()
        seconds = time.monotonic() - self.begun
        try:
            if seconds > _WORTH_NOTING_S:
                leases.note_seconds(self.log, seconds)
            if self.out_of_time:
                _refuse(self.log)
            elif code != DONE:
                _log.warning("the import of log %s ended with %s", self.log.id, code)
                leases.release(self.log, counts=code != NO_DATABASE)
        finally:
            leases.let_go(self.log)
        return code == NO_DATABASE


def begin(log: LogFile) -> Importing:
    """Begin the import of a claimed log in a process of its own."""
    budget = budget_of(log.size)
    begun = time.monotonic()
    return Importing(log, Child(_import, log.id, log.owner, budget), begun + budget.seconds)


def _refuse(log: LogFile) -> None:
    try:
        refuse(log, TOO_LONG)
    except leases.LeaseLostError:
        _log.warning("log %s belongs to another worker by now", log.id)
