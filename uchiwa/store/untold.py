"""Rounds whose logs have come in or changed since it was told what they show."""

from __future__ import annotations

from collections.abc import Collection
from datetime import timedelta

from peewee import fn

from uchiwa.store import log_states
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile, Round
from uchiwa.store.rows import rows

PATIENCE = timedelta(seconds=15)
"""So long a round waits for the rest of its files before it is told what those that are there show."""


def note(round_id: int) -> None:
    """Note that a round's logs are others than they were. Call within a transaction."""
    Round.update(untold_since=fn.COALESCE(Round.untold_since, now())).where(Round.id == round_id).execute()


def waits_for_more(round_id: int) -> bool:
    """Whether files of a round are still to be imported."""
    coming = (LogFile.round == round_id) & LogFile.source.is_null()
    return LogFile.select().where(coming, LogFile.state.in_((log_states.STORED, log_states.IMPORTING))).exists()


def next_round(passed_over: Collection[int] = ()) -> int | None:
    """The round that waits longest and has all its files, or has waited for them long enough.

    Args:
        passed_over: rounds that are being told of, or could not be.
    """
    with unit_of_work():
        query = Round.select(Round.id, Round.untold_since).where(Round.untold_since.is_null(False))
        if passed_over:
            query = query.where(Round.id.not_in(list(passed_over)))
        late = now() - PATIENCE
        for id_, since in rows(query.order_by(Round.untold_since).limit(50)):
            if since <= late or not waits_for_more(id_):
                return int(id_)
    return None
