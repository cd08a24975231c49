"""What the driver is to hold next, in a few words: of the cells still wanted the one that is nearest to where the engine is."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.briefs.coverage import FULL, LIGHT, MIDDLE, Cell, Coverage, load_shares, speeds_of
from uchiwa.core.evidence.conditions import Limits
from uchiwa.core.words.sentence import N_, Sentence

_RUNNING_RPM = 400.0
_SPEED_SCALE, _LOAD_SCALE = 600.0, 0.22
_STAY = 0.6
"""A cell that was advised already counts as so much nearer: the driver is not sent back and forth."""
_GIVEN_UP_S = 6.0
_RETRY_S = 120.0
HEARD_S = 4.0
"""What was said stays for so long, unless it is done or the engine came by another wanted cell: it is read out, and followed."""
LEAD_S = 1.0
"""So long before a cell has enough the next one is said: the driver hears it, and goes, when this one has."""
_ALONE = 1.5
"""How much farther a cell counts that has none to be visited about it: a brief asks for a share of its cells, so that those
that stand alone may stay open, and going where there are many leaves the driver less to do between them."""
_SHORT = {LIGHT: N_("light throttle"), MIDDLE: N_("half throttle"), FULL: N_("firm throttle")}


class Ask(StrEnum):
    """What is asked of the driver."""

    START = "start"
    WARM_UP = "warm_up"
    HOLD = "hold"
    IDLE = "idle"
    DONE = "done"
    NOTHING = "nothing"


@dataclass(frozen=True)
class Advice:
    """What to do next.

    Attributes:
        ask: of what kind.
        words: what is shown large and read aloud.
        more: a second, smaller line.
        cell: [i, j] that is meant, or None.
        seconds: that are still wanted there.
        here: whether the engine is there already.
        place: of the cell, in rpm and as a share of the air outside; None where the table does not tell.
    """

    ask: Ask
    words: str
    more: str = ""
    cell: Cell | None = None
    seconds: float = 0.0
    here: bool = False
    place: tuple[float, float] | None = None


@dataclass(frozen=True)
class Engine:
    """Where the engine is just now; None for what was not recorded.

    Attributes:
        at: seconds of the session.
        speed: rpm.
        load: share of the air outside.
        coolant: °C.
        cell: [i, j] of the table under work.
    """

    at: float
    speed: float | None
    load: float | None
    coolant: float | None
    cell: Cell | None


class Adviser:
    """Advises one driver through a session, and stays with what it has said until that is done or cannot be had."""

    def __init__(self) -> None:
        self._cell: Cell | None = None
        self._since = 0.0
        self._left: dict[Cell, float] = {}
        self._best = np.inf
        self._said = -np.inf

    def advise(
        self,
        coverage: Coverage | None,
        engine: Engine,
        idle_wanted_s: float = 0.0,
        enough_percent: float = 100.0,
        *,
        warms_idling: bool = False,
    ) -> Advice:
        """What to do next.

        Args:
            coverage: the wanted cells and the seconds spent in each, this session's among them; None without a brief.
            engine: where it is.
            idle_wanted_s: seconds of warm idle still wanted.
            enough_percent: share of the wanted cells that is enough for the brief, %.
            warms_idling: whether the brief asks for a warm-up without driving.
        """
        if engine.speed is None or engine.speed <= _RUNNING_RPM:
            return Advice(Ask.START, N_("Start the engine"), N_("Then it goes on."))
        warm = Limits().warm_coolant
        if engine.coolant is not None and engine.coolant < warm:
            words = N_("Let it idle until warm") if warms_idling else N_("Drive gently until warm")
            return Advice(
                Ask.WARM_UP,
                words,
                Sentence("Coolant {coolant:.0f} °C, {warm:.0f} needed.", coolant=engine.coolant, warm=warm),
            )
        if coverage is None:
            return Advice(Ask.NOTHING, N_("Recording"), N_("Drive as your brief says."))
        wanting = {
            cell: coverage.enough - float(coverage.seconds[cell[1], cell[0]])
            for cell in coverage.wanted
            if coverage.seconds[cell[1], cell[0]] < coverage.enough
        }
        if idle_wanted_s > 0 and (not wanting or (engine.speed < 1300 and (engine.load or 0.0) < 0.5)):
            return Advice(
                Ask.IDLE,
                N_("Let it idle"),
                Sentence("{seconds:.0f} s more, feet off.", seconds=float(np.ceil(idle_wanted_s))),
                seconds=idle_wanted_s,
            )
        if not wanting:
            self._cell = None
            return Advice(
                Ask.DONE, N_("All covered"), N_("Everything this brief needs of this drive is there. Thank you.")
            )
        cell = self._choose(coverage, wanting, engine)
        return self._hold(coverage, cell, wanting[cell], engine, enough=coverage.share * 100 >= enough_percent)

    def _choose(self, coverage: Coverage, wanting: dict[Cell, float], engine: Engine) -> Cell:
        """The nearest, unless the one that was said is nearly as near; one that cannot be had is left for a while."""
        if engine.cell in wanting:
            if wanting[engine.cell] > LEAD_S or len(wanting) == 1:
                return self._become(engine.cell, engine)
            wanting = {cell: seconds for cell, seconds in wanting.items() if cell != engine.cell}
        if self._cell in wanting and engine.at - self._said < HEARD_S:
            return self._cell
        apart = _distances(coverage, list(wanting), engine)
        if self._cell in wanting and self._cell not in self._open(engine):
            if apart[self._cell] < self._best - 0.25:
                self._best, self._since = apart[self._cell], engine.at
            if engine.at - self._since < _GIVEN_UP_S:
                apart[self._cell] *= _STAY
            else:
                self._left[self._cell] = engine.at
        for cell in wanting:
            apart[cell] += _ALONE * (8 - _about(cell, wanting)) / 8
        left = self._open(engine)
        free = [cell for cell in wanting if cell not in left] or list(wanting)
        return self._become(min(free, key=lambda cell: (apart[cell], cell)), engine)

    def _open(self, engine: Engine) -> set[Cell]:
        """Cells that were given up a while ago."""
        return {cell for cell, at in self._left.items() if engine.at - at < _RETRY_S}

    def _become(self, cell: Cell, engine: Engine) -> Cell:
        if cell != self._cell:
            self._cell, self._since, self._best = cell, engine.at, np.inf
            self._said = engine.at
        return cell

    def _hold(self, coverage: Coverage, cell: Cell, seconds: float, engine: Engine, *, enough: bool) -> Advice:
        here = engine.cell == cell
        length = max(1, int(np.ceil(seconds)))
        left = sum(1 for one in coverage.wanted if coverage.seconds[one[1], one[0]] < coverage.enough)
        place: tuple[float, float] | None = None
        if coverage.table.y is None:
            flow = float(coverage.table.grid[0, cell[0]])
            where: str = (
                N_("Gentle, just above idle")
                if flow < 8
                else N_("Steady, 2000 to 3000 rpm")
                if flow < 22
                else N_("Long hill, 3000 rpm")
            )
        else:
            speed = float(speeds_of(coverage.table)[cell[1], cell[0]])
            place = (speed, float(load_shares(coverage.table)[cell[1], cell[0]]))
            where = Sentence(
                "{speed} rpm, {load}", speed=round(speed / 100) * 100, load=_SHORT[coverage.band_of(*cell)]
            )
        if here:
            words = Sentence("{where}: {length} s more", where=where, length=length)
        else:
            words = Sentence("{where}: for {length} s", where=where, length=length)
        told = Sentence("Hold it.") if here else Sentence("Go there gently.")
        rest = (
            Sentence("Enough for the brief; go on if you like.")
            if enough
            else Sentence("{left} places left.", left=left)
        )
        more = Sentence("{told} {rest}", told=told, rest=rest)
        return Advice(Ask.HOLD, words, more, cell, seconds, here, place)


def _about(cell: Cell, wanting: Collection[Cell]) -> int:
    """How many of the cells about a cell are wanted, too."""
    i, j = cell
    return sum((i + a, j + b) in wanting for a in (-1, 0, 1) for b in (-1, 0, 1) if a or b)


def _distances(coverage: Coverage, cells: list[Cell], engine: Engine) -> dict[Cell, float]:
    """How far each cell lies from the engine, in steps that a driver makes without effort."""
    if coverage.table.y is None:
        at = engine.cell[0] if engine.cell is not None else 0
        return {cell: float(abs(cell[0] - at)) for cell in cells}
    speeds, loads = speeds_of(coverage.table), load_shares(coverage.table)
    found: dict[Cell, float] = {}
    for i, j in cells:
        along = (float(speeds[j, i]) - (engine.speed or 0.0)) / _SPEED_SCALE if np.isfinite(speeds[j, i]) else 0.0
        up = (float(loads[j, i]) - engine.load) / _LOAD_SCALE if engine.load is not None else 0.0
        found[i, j] = float(np.hypot(along, up))
    return found
