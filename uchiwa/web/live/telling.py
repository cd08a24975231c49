"""What a watcher is told of a session, a few times a second: only what is new since the last time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from uchiwa.core.live.advice import Advice
from uchiwa.core.live.filling import Filling
from uchiwa.core.live.limits import state_now
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.viewing.limits import Limit, passed
from uchiwa.core.words.sentence import sentence_of
from uchiwa.services.languages import Words
from uchiwa.store import live_events
from uchiwa.store.database import unit_of_work
from uchiwa.web.live.followers import Follower

_ENGLISH = Words()
MOST_ROWS = 600
_TRAIL_POINTS = 5
COMPUTED_EVERY_S = 1.0
_DIGITS = 5


Draw = Callable[[Filling, str, dict[tuple[int, int], dict[str, Any]], np.ndarray], list[list[Any]]]
"""Filling, view, correction by cell and which cells, to what the page puts in their place."""


@dataclass
class WatcherRequest:
    """What a watcher wants to see.

    Attributes:
        keys: traces of the strips.
        table: id of the table whose cells are shown; empty for none.
        view: what its cells show.
    """

    keys: tuple[str, ...] = ()
    table: str = ""
    view: str = ""

    @classmethod
    def read(cls, data: Any) -> WatcherRequest:
        """From what the page sends; what makes no sense is passed over."""
        if not isinstance(data, dict):
            return cls()
        keys = data.get("keys")
        told = [key for key in keys if isinstance(key, str)][:40] if isinstance(keys, list) else []
        table = data.get("table")
        view = data.get("view")
        return cls(tuple(told), table if isinstance(table, str) else "", view if isinstance(view, str) else "")


@dataclass
class SentSoFar:
    """What one watcher has been told already."""

    rows: int = 0
    computed: int = 0
    reading: int = -1
    table: tuple[str, str, int] = ("", "", -1)
    turn: int = -1
    standing: object = None
    analysis: tuple[int, int] = (-1, -1)
    parts: dict[str, Any] = field(default_factory=dict)
    event: int = 0
    words: str = ""


class Teller:
    """Tells one watcher.

    Args:
        follower: of the session.
        limits: beyond which readings are named.
        draw: cells of a table in a view, as they are drawn; None if none are shown.
        words: the language of whoever is told.
    """

    def __init__(
        self, follower: Follower, limits: tuple[Limit, ...], draw: Draw | None = None, words: Words = _ENGLISH
    ) -> None:
        self.follower, self.draw, self.words = follower, draw, words
        self.limits: dict[str, tuple[Limit, ...]] = {}
        for limit in limits:
            self.limits[limit.quantity] = (*self.limits.get(limit.quantity, ()), limit)
        self.told = SentSoFar()
        self.wish = WatcherRequest()

    def news(self) -> dict[str, Any]:
        """What is new; empty if nothing is."""
        found: dict[str, Any] = {}
        growth, told = self.follower.growing.growth, self.told
        if growth.reading_number != told.reading:
            told.reading = growth.reading_number
            told.rows = told.computed = growth.size
            found["reload"] = True
        if growth.size > told.rows:
            found |= self._rows(told.rows, growth.size)
            told.rows = growth.size
        found |= self._cells()
        return found

    def _rows(self, first: int, last: int) -> dict[str, Any]:
        growth = self.follower.growing.growth
        if last - first > MOST_ROWS:
            self.told.computed = last
            return {"reload": True, "end": _rounded(growth.seconds)}
        keys = [key for key in self.wish.keys if key in growth]
        time, traces = self._traces(keys, first, last)
        beyond: dict[str, str] = {}
        for key in keys:
            over = passed(self.limits[key], key, growth.latest(key)) if key in self.limits else None
            if over is not None:
                beyond[key] = over.words
        told: dict[str, Any] = {"t": time, "v": traces, "beyond": beyond}
        place = self.follower.once(("place", self.wish.table, first, last), lambda: self._place(first, last))
        if place is not None:
            told["at"] = place
        return told | self._computed(last)

    def _traces(self, keys: list[str], first: int, last: int) -> tuple[Any, dict[str, Any]]:
        """Time and readings of some rows, each listed once for all who are told of the same rows."""
        growth = self.follower.growing.growth
        time = self.follower.once(("time", first, last), lambda: _listed(growth.time[first:last]))
        known: dict[str, Any] = self.follower.once(("traces", first, last), dict)
        new = [key for key in keys if key not in known]
        if new:
            known.update(zip(new, _listed(growth.block(new, first, last)), strict=True))
        return time, {key: known[key] for key in keys}

    def _computed(self, last: int) -> dict[str, Any]:
        """What computed channels have come to, once a second: working them out takes longer than passing on."""
        growing, told = self.follower.growing, self.told
        first = told.computed
        if growing.growth.time[last - 1] - growing.growth.time[min(first, last - 1)] < COMPUTED_EVERY_S:
            return {}
        told.computed = last
        found = {}
        for key in self.wish.keys:
            values = growing.computed(key, first) if key not in growing.growth else None
            if values is not None:
                found[key] = _listed(values[: last - first])
        return {"computed": {"t": _listed(growing.growth.time[first:last]), "v": found}} if found else {}

    def _place(self, first: int, last: int) -> dict[str, Any] | None:
        """Where the engine is in the table that is watched, and how it came there since the last time."""
        growing = self.follower.growing
        if self.wish.table not in growing.tables:
            return None
        steps = max(1, (last - first) // _TRAIL_POINTS)
        here = growing.places_in(self.wish.table).at(growing.growth, list(range(last - 1, first - 1, -steps))[::-1])
        if isinstance(here, str):
            title = QUANTITIES[here].title if here in QUANTITIES else here
            return {"problem": f"This drive has no {title}, an axis of the table."}
        return {
            "i": here.i,
            "j": here.j,
            "x": _number(here.x),
            "y": None if here.y is None else _number(here.y),
            "trail": here.trail,
        }

    def _cells(self) -> dict[str, Any]:
        """Cells that have changed, as they are drawn."""
        growing, told = self.follower.growing, self.told
        filling = growing.filling(self.wish.table) if self.wish.table in growing.tables else None
        if filling is None or self.draw is None:
            return {}
        analysis = self.follower.analysis
        shown = (self.wish.table, self.wish.view, analysis.number[0] if self.wish.view == "change" else -1)
        if told.table != shown:
            told.table, told.turn = shown, -1
        if filling.turn == told.turn:
            return {}
        draw, since, view = self.draw, told.turn, self.wish.view
        told.turn = filling.turn
        drawn = self.follower.once(
            ("cells", draw, shown, since, filling.turn),
            lambda: draw(filling, view, analysis.correction, filling.touched > since),
        )
        return {"cells": drawn} if drawn else {}

    def standing(self) -> dict[str, Any]:
        """How the session stands, if that has changed."""
        standing = self.follower.standing
        if standing is None:
            return {"gone": True}
        if standing == self.told.standing:
            return {}
        self.told.standing = standing
        return {
            "standing": {
                "running": standing.running,
                "why": standing.ended_why,
                "heard_ms": standing.heard_ms,
                "wanted": standing.wanted,
                "allowed": standing.allowed,
                "overlay": standing.overlay,
                "acknowledged": standing.acknowledged,
                "decided": standing.decided,
                "log": standing.log_state,
                "message": standing.message,
            }
        }

    def found(self) -> dict[str, Any]:
        """What the worker has found, in those parts that are new; empty if none is."""
        analysis, told = self.follower.analysis, self.told
        if analysis.number == told.analysis:
            return {}
        new = {key: part for key, part in analysis.parts.items() if key not in told.parts or part != told.parts[key]}
        told.analysis, told.parts = analysis.number, analysis.parts
        return new

    @property
    def must_ask(self) -> bool:
        """Whether something happened that has not been told."""
        standing = self.follower.standing
        return standing is not None and standing.event > self.told.event

    def events(self) -> list[dict[str, Any]]:
        """What happened since, from the database. Call within a thread that may wait."""
        standing = self.follower.standing
        if standing is None:
            return []
        with unit_of_work():
            found = live_events.after(self.follower.growing.session_id, self.told.event)
        self.told.event = standing.event
        return [event_data(event) for event in found]

    def in_their_words(self, items: list[dict[str, Any]]) -> list[dict[str, Any]]:
        """What ticks, in the language of whoever is told."""
        say = self.words.say
        return [
            item | {"title": say(item["title"]), "said": say(sentence_of(item.get("words") or item.get("said", "")))}
            for item in items
        ]

    def correction_now(self) -> dict[str, Any]:
        """Whether the correction runs just now, or why not."""
        growing = self.follower.growing
        filling = self.follower.guide.filling
        engine = self.follower.guide.engine()
        calibration = growing.context.calibration
        targets = calibration.by_role("lambda_target") if calibration is not None else ()
        why, how_far = state_now(
            self.follower.analysis.limits,
            growing.growth,
            targets[0] if targets else None,
            filling is not None and engine.cell is not None,
        )
        return {"why": why.value, "how_far": how_far}

    def advice(self) -> dict[str, Any] | None:
        """What the driver is told, if that has changed."""
        advice = self.follower.advice
        if advice.words == self.told.words:
            return None
        self.told.words = advice.words
        return advice_data(advice, self.words)


def advice_data(advice: Advice, words: Words = _ENGLISH) -> dict[str, Any]:
    """Advice as plain data, in a language."""
    return {
        "ask": advice.ask.value,
        "words": words.say(advice.words),
        "more": words.say(advice.more),
        "cell": advice.cell,
        "here": advice.here,
        "seconds": round(advice.seconds, 1),
        "place": advice.place,
    }


def event_data(event: Any) -> dict[str, Any]:
    """An event as plain data."""
    return {
        "id": event.id,
        "at_ms": event.at_ms,
        "seconds": event.seconds,
        "kind": event.kind,
        "who": event.who,
        "text": event.text,
    }


def _listed(values: FloatArray) -> Any:
    """Numbers as JSON has them, None where nothing was read; in lists of lists for several channels."""
    rounded = np.round(values, _DIGITS)
    known = np.isfinite(values)
    if known.all():
        return rounded.tolist()
    found = rounded.astype(np.object_)
    found[~known] = None
    return found.tolist()


def _number(value: float, digits: int = 4) -> float | None:
    return round(float(value), digits) if np.isfinite(value) else None


def _rounded(value: float) -> float:
    return round(value, 3)
