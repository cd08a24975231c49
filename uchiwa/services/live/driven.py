"""What the car drives by: an overlay that it was offered and has acknowledged, or its own calibration."""

from __future__ import annotations

from typing import Any

from uchiwa.core.errors import BadInput
from uchiwa.core.live.overlay import SILENCE_S
from uchiwa.services.live.marking import moment_now
from uchiwa.store import calibrations, live_overlays, revisions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Job, LiveSession, Round


def overlay_for(session: LiveSession) -> dict[str, Any]:
    """The overlay that a session's car may drive by, as its program is told; number 0 for its own calibration.

    One that was dropped is not offered again: the next begins from the car's own calibration, in small steps.
    """
    nothing = {"number": 0, "silence_s": SILENCE_S}
    if not live_overlays.may_be_driven(session):
        return nothing
    found = live_overlays.newest(session.id)
    job = Job.get_by_id(session.job_id)
    revision = revisions.running(job, Round.get_by_id(session.log.round_id))
    dropped = found is not None and found.acknowledged and session.acknowledged != found.number
    if found is None or revision is None or dropped:
        return nothing
    table = calibrations.content(revision.calibration).table(found.table)
    axes = {"x": {"quantity": table.x.quantity, "unit": table.x.unit, "breakpoints": table.x.breakpoints.tolist()}}
    if table.y is not None:
        axes["y"] = {"quantity": table.y.quantity, "unit": table.y.unit, "breakpoints": table.y.breakpoints.tolist()}
    return {
        **nothing,
        "number": found.number,
        "from": found.base,
        "table": table.id,
        **axes,
        "factors": found.factors.tolist(),
    }


def _moment(session_id: int) -> float:
    with unit_of_work():
        session = LiveSession.get_by_id(session_id)
    return moment_now(session)


@run_again
def driven_by(session_id: int, number: int) -> None:
    """The car drives by an overlay.

    Raises:
        BadInput: there is none of this number, or there is no leave for it any more.
    """
    seconds = _moment(session_id)
    with unit_of_work():
        session = LiveSession.get_by_id(session_id)
        if not live_overlays.may_be_driven(session):
            raise BadInput(
                "there is no leave to drive by an overlay",
                where="the overlay",
                advice="go by the car’s own calibration",
            )
        live_overlays.acknowledge(session, number, seconds)


@run_again
def own_calibration(session_id: int, why: str) -> None:
    """The car goes by its own calibration again."""
    seconds = _moment(session_id)
    with unit_of_work():
        live_overlays.dropped(LiveSession.get_by_id(session_id), why, seconds)


@run_again
def allow(session_id: int, *, allowed: bool) -> None:
    """The customer gives leave for this session, or takes it back."""
    seconds = _moment(session_id)
    with unit_of_work():
        live_overlays.set_allowed(LiveSession.get_by_id(session_id), allowed=allowed, seconds=seconds)


@run_again
def want(session_id: int, *, wanted: bool, who: str) -> None:
    """The tuner has overlays sent, or no more. Call outside a transaction."""
    seconds = _moment(session_id)
    with unit_of_work():
        live_overlays.set_wanted(LiveSession.get_by_id(session_id), wanted=wanted, who=who, seconds=seconds)
