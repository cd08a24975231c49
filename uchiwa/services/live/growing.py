"""Sessions as this process has followed them: rows that were kept by whichever process, and what they fill.

Nothing here is the only copy. What is dropped, or was never here, is read from the database again.
"""

from __future__ import annotations

import time
from collections import OrderedDict
from collections.abc import Sequence
from threading import Lock

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.live.batch import kept_batches
from uchiwa.core.live.filling import Filling
from uchiwa.core.live.growth import Growth
from uchiwa.core.live.opening import Opening
from uchiwa.core.live.position import Position
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table
from uchiwa.services.importing import ImportContext
from uchiwa.store import live_passing
from uchiwa.store.database import connected, run_again, unit_of_work
from uchiwa.store.models import LiveSession, LogFile

_MOST = 6
_FORGET_S = 600.0
_BACK_S = 2.5


class GrowingSession:
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
        self.tables: dict[str, Table] = {table.id: table for table in found}
        self.fillings: dict[str, Filling] = {}
        self.position = 0
        self._positions: dict[str, Position] = {}
        self._computed: dict[str, tuple[int, int, FloatArray | None]] = {}
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

    def places_in(self, table_id: str) -> Position:
        """Places in one of the tables."""
        found = self._positions.get(table_id)
        if found is None:
            found = self._positions[table_id] = Position(self.tables[table_id])
        return found

    def advance(self) -> bool:
        """Take in what was kept since; whether there was something."""
        self.used = time.monotonic()
        with self.lock:
            rows = self.growth.size
            while True:
                found = _chunks(self.log_id, self.position)
                self._take(found)
                if len(found) < live_passing.CHUNKS:
                    break
            return self.growth.size > rows

    def take(self, lines: Sequence[tuple[int, bytes]]) -> bool:
        """Take in lines that somebody has fetched; whether there was something new."""
        self.used = time.monotonic()
        with self.lock:
            rows = self.growth.size
            self._take([line for line in lines if line[0] > self.position])
            return self.growth.size > rows

    def _take(self, lines: Sequence[tuple[int, bytes]]) -> None:
        # The line of marks is of a session that has ended, and may be gone on with.
        new = [(position, line) for position, line in lines if not line.startswith(b'{"marks"')]
        if not new:
            return
        self.position = new[-1][0]
        # What is no batch is kept in the file all the same, whose reader says how many there were.
        self.growth.add(*kept_batches([line for _, line in new]))
        for filling in self.fillings.values():
            filling.follow(self.growth)

    def computed(self, key: str, first: int) -> FloatArray | None:
        """A computed channel from a row on, worked out from those rows and a few seconds before; None if it cannot be.

        What looks further back, or ahead, is right once the page is loaded again.
        """
        context, growth = self.context, self.growth
        if key not in context.book or not growth.size:
            return None
        begin = int(np.searchsorted(growth.time, growth.time[min(first, growth.size - 1)] - _BACK_S))
        known = self._computed.get(key)
        if known is None or known[0] != growth.size or known[1] > first:
            formula = context.book[key].formula
            signals = growth.tail(begin, tuple(context.book.needs(formula, context.calibration)))
            try:
                values = Workings(
                    growth.time[begin:],
                    signals,
                    Scope(context.calibration, context.file, context.book),
                    units_known=True,
                ).channel(key)
            except BadInput:
                values = None
            known = self._computed[key] = (growth.size, begin, values)
        return None if known[2] is None else known[2][first - known[1] :]


@run_again
def _chunks(log_id: int, position: int) -> list[tuple[int, bytes]]:
    with connected():
        return live_passing.chunks_after(log_id, position)


_followed: OrderedDict[int, GrowingSession] = OrderedDict()
_lock = Lock()


def follow(session: LiveSession) -> GrowingSession:
    """A session as far as this process has followed it; call `advance` for what came since."""
    with _lock:
        found = _followed.get(session.id)
        if found is not None:
            _followed.move_to_end(session.id)
            return found
    made = GrowingSession(session)
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
