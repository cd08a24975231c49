"""A session's correction after its end: every cell looked at, then all, some or none of it taken into the draft."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray
from uchiwa.services import fuel
from uchiwa.services.fuel import FuelWork
from uchiwa.services.live.analysis import limits_of as limits_of
from uchiwa.store import live_sessions, log_states
from uchiwa.store.acting import Acting
from uchiwa.store.models import Event, Job, LiveSession, LogFile, Round

TAKEN, CLEARED = "taken", "cleared"


def work(job: Job, round_: Round, session: LiveSession) -> FuelWork:
    """The fuel proposal of the log that a session became, under the session's limits.

    Raises:
        BadInput: it is not ready yet, the correction was off, or the log lacks a channel.
    """
    log = LogFile.get_by_id(session.log_id)
    if log.state != log_states.READY:
        raise BadInput("the log is still being read", where=str(log.name), advice="wait a moment")
    limits = limits_of(session)
    if not limits.on:
        raise BadInput("no correction ran in this session", advice="switch it on, or work the log in Fuel")
    return fuel.fuel_work(job, round_, None, [log], limits.policy)


def take(by: Acting, session: LiveSession, chosen: BoolArray | None) -> Event:
    """Take the correction, or its chosen cells, into the draft.

    Raises:
        StaleDraftError: the draft has changed since the person saw it.
        BadInput: nothing among the chosen cells is left to take.
    """
    event = fuel.take(by, work(by.job, by.round, session), chosen)
    live_sessions.decide(session, TAKEN)
    return event


def clear(session: LiveSession) -> None:
    """Take none of it; it can be looked at again."""
    live_sessions.decide(session, CLEARED)


def look_again(session: LiveSession) -> None:
    """As if nothing had been decided."""
    live_sessions.decide(session, "")
