"""What a driver is told while a session goes on: the round's brief, what earlier logs cover, and what this one has so far."""

from __future__ import annotations

import numpy as np

from uchiwa.core.briefs.coverage import Coverage, load_shares
from uchiwa.core.live.advice import Advice, Adviser, Engine
from uchiwa.core.live.filling import Filling
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.log import FloatArray
from uchiwa.services.live.growing import GrowingSession
from uchiwa.store import collected
from uchiwa.store.database import run_again, unit_of_work

_WARM_UPS = (DriveKind.COLD_START, DriveKind.WARM_UP, DriveKind.IN_GEAR_WARM_UP)
_IDLE_BELOW_RPM, _STANDS_KMH, _LONGEST_STEP_S = 1300.0, 3.0, 0.5


class Guide:
    """Advises the driver of one session."""

    def __init__(self, growing: GrowingSession) -> None:
        self.growing = growing
        self.adviser = Adviser()
        self._idled, self._counted = 0.0, 0
        self._before, self._idle_met = _earlier(growing)
        table = growing.context.table
        self._loads = load_shares(table) if table is not None else np.zeros((1, 1))
        brief = growing.context.brief
        asks = brief.to_drive if brief is not None else ()
        self._cruise = next((ask.acceptance for ask in asks if ask.acceptance.cells), None)
        self._warms_idling = any(ask.kind in _WARM_UPS for ask in asks)
        self._idle = next((ask.acceptance for ask in asks if ask.kind is DriveKind.WARM_IDLE), None)

    @property
    def filling(self) -> Filling | None:
        """The cells of the table under work."""
        table = self.growing.context.table
        return self.growing.filling(table.id) if table is not None else None

    def coverage(self) -> Coverage | None:
        """The cells that the brief's cruise is to visit, with the seconds of earlier logs and of this session."""
        filling = self.filling
        if filling is None or self._cruise is None:
            return None
        rows, columns = filling.table.shape
        cells = [(i, j) for i, j in self._cruise.cells if i < columns and j < rows]
        before = self._before if self._before is not None and self._before.shape == (rows, columns) else 0.0
        return Coverage(filling.table, cells, filling.seconds + before, self._cruise.cell_seconds)

    @property
    def enough_percent(self) -> float:
        """The share of its cells that is enough for the brief, %."""
        return self._cruise.cell_share if self._cruise is not None else 100.0

    def advise(self) -> Advice:
        """What to do next."""
        self._count_idle()
        return self.adviser.advise(
            self.coverage(), self.engine(), self.idle_wanted_s, self.enough_percent, warms_idling=self._warms_idling
        )

    @property
    def idle_wanted_s(self) -> float:
        """Seconds of warm idle that the brief still wants."""
        if self._idle is None or self._idle_met:
            return 0.0
        return max(0.0, self._idle.seconds - self._idled)

    def engine(self) -> Engine:
        """Where the engine is at the last row."""
        growth, filling = self.growing.growth, self.filling
        cell, load = None, None
        if filling is not None and growth.size:
            here = self.growing.places_in(filling.table.id).at(growth, [growth.size - 1])
            if not isinstance(here, str) and here.i is not None and here.j is not None:
                cell, load = (here.i, here.j), float(self._loads[here.j, here.i])
        return Engine(growth.seconds, growth.latest("engine_speed"), load, growth.latest("coolant_temperature"), cell)

    def _count_idle(self) -> None:
        growth = self.growing.growth
        first = max(0, self._counted - 1)
        if self._idle is None or growth.size - first < 2:
            return
        signals = growth.tail(first, ("engine_speed", "vehicle_speed", "coolant_temperature"))
        speed = signals.get("engine_speed")
        if speed is not None:
            idles = (speed > 400) & (speed < _IDLE_BELOW_RPM)
            if "vehicle_speed" in signals:
                idles &= signals["vehicle_speed"] < _STANDS_KMH
            if "coolant_temperature" in signals and self._idle.warm is not None:
                idles &= signals["coolant_temperature"] >= self._idle.warm
            steps: FloatArray = np.diff(growth.time[first:])
            self._idled += float(steps[(steps < _LONGEST_STEP_S) & idles[1:]].sum())
        self._counted = growth.size


@run_again
def _earlier(growing: GrowingSession) -> tuple[FloatArray | None, bool]:
    """Seconds in each cell of the round's earlier logs, and whether one of them has the warm idle."""
    with unit_of_work():
        found = collected.collected(growing.context.job, growing.context.round)
    idle = any(item.ask.kind is DriveKind.WARM_IDLE and item.tick.value == "done" for item in found.items)
    return (found.coverage.seconds if found.coverage is not None else None), idle
