"""A moment marked by the driver: kept as an event, and with the session's end as a channel of its log."""

from __future__ import annotations

from uchiwa.services.live import growing
from uchiwa.store import live_events, live_passing, live_sessions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import LiveSession

_LATE_MS = 1000
_LONGEST_S = 120.0


def moment_now(session: LiveSession) -> float:
    """The session's moment just now: of the newest row, and of what has passed since where the link is silent."""
    followed = growing.follow(session)
    followed.advance()
    with unit_of_work():
        standing = live_sessions.standing(session.id)
    late = live_passing.milliseconds() - standing.heard_ms if standing is not None else 0
    silent = min(max(late / 1000.0, 0.0), _LONGEST_S) if late > _LATE_MS else 0.0
    return followed.growth.seconds + silent


def mark_now(session: LiveSession) -> float:
    """Mark this moment; in seconds of the session."""
    seconds = moment_now(session)
    _note(session.id, seconds)
    return seconds


@run_again
def _note(session_id: int, seconds: float) -> None:
    with unit_of_work():
        live_events.note(session_id, live_events.MARK, live_events.DRIVER, seconds)
