"""Overlays of live sessions: made one after the other, each after the car has acknowledged the last."""

from __future__ import annotations

import json
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.store import live_events
from uchiwa.store.live_passing import milliseconds
from uchiwa.store.models import LiveOverlay, LiveSession
from uchiwa.store.rows import first

SILENT_MS = 1500


@dataclass(frozen=True, eq=False)
class OfferedOverlay:
    """An overlay as it is offered.

    Attributes:
        number: 1 for the first of a session.
        base: number of the one that it is a step from; 0 for the car's own calibration.
        table: id of the calibration's table.
        factors: shape (rows, columns).
        acknowledged: whether the car drives by it, or has.
    """

    number: int
    base: int
    table: str
    factors: FloatArray
    acknowledged: bool


def newest(session_id: int) -> OfferedOverlay | None:
    """The last one that was made."""
    query = LiveOverlay.select().where(LiveOverlay.session == session_id).order_by(LiveOverlay.number.desc())
    row = first(query)
    return None if row is None else _offered(row)


def _offered(row: LiveOverlay) -> OfferedOverlay:
    return OfferedOverlay(
        row.number, row.base, row.table, np.array(json.loads(row.factors)), row.acknowledged_ms is not None
    )


def numbered(session_id: int, number: int) -> OfferedOverlay | None:
    """The one of this number."""
    row = first(LiveOverlay.select().where(LiveOverlay.session == session_id, LiveOverlay.number == number))
    return None if row is None else _offered(row)


def driven(session: LiveSession) -> OfferedOverlay | None:
    """The one that the car drives by; None if it goes by its own calibration."""
    return numbered(session.id, session.acknowledged) if session.acknowledged else None


def may_be_driven(session: LiveSession) -> bool:
    """Whether the car may drive by an overlay: the customer has allowed it, the tuner wants it, and the session runs."""
    return bool(session.running_id is not None and session.allowed and session.wanted)


def offer(session_id: int, table: str, factors: FloatArray, seconds: float) -> int | None:
    """Make the next one, a step from what is driven. Call within a transaction.

    None if leave was taken back, the last is not acknowledged yet, or the car is silent: it may drive by another by now.
    """
    held = first(LiveSession.select().where(LiveSession.id == session_id).for_update())
    last = newest(session_id)
    if held is None or not may_be_driven(held) or (last is not None and not last.acknowledged):
        return None
    if abs(milliseconds() - held.heard_ms) > SILENT_MS:
        return None
    number = int(held.overlay) + 1
    LiveOverlay.create(
        session=session_id,
        number=number,
        base=held.acknowledged,
        table=table,
        factors=json.dumps(factors.tolist()),
        made_ms=milliseconds(),
    )
    LiveSession.update(overlay=number).where(LiveSession.id == session_id).execute()
    live_events.note(session_id, live_events.OFFERED, live_events.SERVER, seconds, f"overlay {number}")
    return number


def acknowledge(session: LiveSession, number: int, seconds: float) -> None:
    """The car drives by it. Call within a transaction.

    Raises:
        BadInput: there is none of this number.
    """
    row = first(LiveOverlay.select().where(LiveOverlay.session == session, LiveOverlay.number == number).for_update())
    if row is None:
        raise BadInput(f"there is no overlay {number}", where="the overlay", advice="fetch the one that there is")
    if row.acknowledged_ms is not None:
        return
    LiveOverlay.update(acknowledged_ms=milliseconds()).where(
        LiveOverlay.session == session, LiveOverlay.number == number
    ).execute()
    LiveSession.update(acknowledged=number).where(LiveSession.id == session.id, LiveSession.overlay == number).execute()
    live_events.note(session.id, live_events.DRIVEN, live_events.CAR, seconds, f"overlay {number}")


def dropped(session: LiveSession, why: str, seconds: float) -> None:
    """The car goes by its own calibration again; the next overlay begins from there. Call within a transaction."""
    LiveOverlay.delete().where(LiveOverlay.session == session, LiveOverlay.acknowledged_ms.is_null()).execute()
    LiveSession.update(acknowledged=0).where(LiveSession.id == session.id).execute()
    live_events.note(session.id, live_events.DROPPED, live_events.CAR, seconds, why)


def set_wanted(session: LiveSession, *, wanted: bool, who: str, seconds: float) -> None:
    """The tuner has overlays sent, or no more. Call within a transaction."""
    LiveSession.update(wanted=wanted).where(LiveSession.id == session.id).execute()
    live_events.note(session.id, "wanted" if wanted else "not_wanted", who, seconds)


def set_allowed(session: LiveSession, *, allowed: bool, seconds: float) -> None:
    """The customer gives leave for this session, or takes it back. Call within a transaction."""
    LiveSession.update(allowed=allowed).where(LiveSession.id == session.id).execute()
    kind = live_events.ALLOWED if allowed else live_events.TAKEN_BACK
    live_events.note(session.id, kind, live_events.DRIVER, seconds)
