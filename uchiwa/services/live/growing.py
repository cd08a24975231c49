"""Sessions as this process has followed them: rows that were kept by whichever process, and what they fill.

Nothing here is the only copy. What is dropped, or was never here, is read from the database again.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from contextlib import nullcontext
from threading import Lock

from uchiwa.core.errors import BadInput
from uchiwa.core.live.batch import read_batch
from uchiwa.core.live.filling import Filling
from uchiwa.core.live.growth import Growth
from uchiwa.core.live.opening import Opening
from uchiwa.core.tables.table import Table
from uchiwa.services.importing import ImportContext
from uchiwa.store import live_passing
from uchiwa.store.database import database, run_again, unit_of_work
from uchiwa.store.models import LiveSession, LogFile

_MOST = 6
_FORGET_S = 600.0


class Growing:
    """One session, followed.

    Attributes:
        session_id, log_id: whose.
        context: what is known of car, brief and calibration.
        growth: the rows so far.
        tables: the airflow tables whose cells fill, by id.
    """

    def __init__(self, session: LiveSession) -> None:
        self.session_id, self.log_id = session.id, session.log_id
        with unit_of_work():
            self.context = ImportContext.of(LogFile.get_by_id(session.log_id))
        opening = Opening.loads(session.opening)
        self.growth = Growth(opening, self.context.knowledge, "the live session")
        calibration = self.context.calibration
        found = calibration.tables if calibration is not None else ()
        self.tables: dict[str, Table] = {one.id: one for one in found}
        self.fillings: dict[str, Filling] = {}
        self.position = 0
        self.used = time.monotonic()
        self.lock = Lock()
        if self.context.table is not None:
            self.filling(self.context.table.id)

    def filling(self, table_id: str) -> Filling | None:
        """The cells of a table, counted from the beginning of the session on."""
        table = self.tables.get(table_id)
        if table is None:
            return None
        if table_id not in self.fillings:
            filling = Filling(table)
            filling.follow(self.growth)
            self.fillings[table_id] = filling
        return self.fillings[table_id]

    def advance(self) -> bool:
        """Take in what was kept since; whether there was something."""
        self.used = time.monotonic()
        with self.lock:
            rows = self.growth.size
            while True:
                found = _chunks(self.log_id, self.position)
                for position, line in found:
                    if line.startswith(b'{"marks"'):  # of a session that has ended, and may be gone on with
                        continue
                    self.position = position
                    self._add(line)
                if len(found) < live_passing.CHUNKS:
                    break
            for filling in self.fillings.values():
                filling.follow(self.growth)
            return self.growth.size > rows

    def _add(self, line: bytes) -> None:
        try:
            self.growth.add(read_batch(line, len(self.growth.opening.channels)))
        except BadInput:  # kept in the file all the same, whose reader says how many there were
            return


@run_again
def _chunks(log_id: int, position: int) -> list[tuple[int, bytes]]:
    with database.connection_context() if database.is_closed() else nullcontext():
        return live_passing.chunks_after(log_id, position)


_followed: OrderedDict[int, Growing] = OrderedDict()
_lock = Lock()


def follow(session: LiveSession) -> Growing:
    """A session as far as this process has followed it; call `advance` for what came since."""
    with _lock:
        found = _followed.get(session.id)
        if found is not None:
            _followed.move_to_end(session.id)
            return found
    made = Growing(session)
    with _lock:
        found = _followed.setdefault(session.id, made)
        _followed.move_to_end(session.id)
        while len(_followed) > _MOST:
            _followed.popitem(last=False)
        return found


def forget_old() -> None:
    """Drop sessions that nobody has looked at for ten minutes."""
    at = time.monotonic()
    with _lock:
        for session_id in [one for one, found in _followed.items() if at - found.used > _FORGET_S]:
            del _followed[session_id]


def forget() -> None:
    """Drop all of them; for measurements and tests."""
    with _lock:
        _followed.clear()
