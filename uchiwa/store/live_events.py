"""What happened in live sessions, and when: marks, breaks of the link, leave given or taken back, overlays driven."""

from __future__ import annotations

import time

from uchiwa.store.models import LiveEvent
from uchiwa.store.rows import rows

MARK, BROKEN, RESUMED = "mark", "broken", "resumed"
ALLOWED, TAKEN_BACK, OFFERED, DRIVEN, DROPPED = "allowed", "taken_back", "offered", "driven", "dropped"
CAR, DRIVER, TUNER, SERVER = "car", "driver", "tuner", "server"
_MOST_MARKS = 500


def note(session_id: int, kind: str, who: str, seconds: float, text: str = "") -> LiveEvent:
    """Note something; `seconds` of the session."""
    return LiveEvent.create(
        session=session_id,
        at_ms=int(time.time() * 1000),
        seconds=round(seconds, 3),
        kind=kind,
        who=who,
        text=text[:500],
    )


def marks_of(session_id: int) -> list[float]:
    """The moments that were marked, in seconds of the session."""
    query = LiveEvent.select(LiveEvent.seconds).where(LiveEvent.session == session_id, LiveEvent.kind == MARK)
    return [float(at) for (at,) in rows(query.order_by(LiveEvent.id).limit(_MOST_MARKS))]


def after(session_id: int, event_id: int, most: int = 100) -> list[LiveEvent]:
    """Events since the one of this number, in their order."""
    query = LiveEvent.select().where(LiveEvent.session == session_id, LiveEvent.id > event_id)
    return list(query.order_by(LiveEvent.id).limit(most))


def latest(session_id: int, most: int = 40) -> list[LiveEvent]:
    """The last events, oldest first."""
    query = LiveEvent.select().where(LiveEvent.session == session_id).order_by(LiveEvent.id.desc()).limit(most)
    return list(query)[::-1]
