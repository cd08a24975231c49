"""The worker's part in sessions: looks at each again and again, keeps what it finds, and makes the next overlay."""

from __future__ import annotations

import json
import time
import uuid
from collections.abc import Collection
from typing import Any

import numpy as np

from uchiwa.core.live.overlay import neutral, next_step
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table
from uchiwa.services.live.analysis import Analyst, limits_of
from uchiwa.store import live_overlays, live_passing
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import LiveSession

LEASE_MS = 15_000
_SHORTEST_S = 1.0
_SHARE = 4.0
"""Between two looks so many times as long as a look takes, so that a long session takes a fifth of a core."""


@run_again
def claim(session_id: int, owner: str) -> bool:
    """Take a session, or hold on to it; whether it is ours and still goes on."""
    at = live_passing.milliseconds()
    with unit_of_work():
        mine = (
            (LiveSession.analyst == owner)
            | (LiveSession.analyst_until_ms < at)
            | (LiveSession.analyst_until_ms > at + 2 * LEASE_MS)
        )
        changed = LiveSession.update(analyst=owner, analyst_until_ms=at + LEASE_MS).where(
            LiveSession.id == session_id, LiveSession.running.is_null(False), mine
        )
        return bool(changed.execute())


@run_again
def unclaimed(passed_over: Collection[int] = ()) -> int | None:
    """A session that goes on and that no worker looks at."""
    at = live_passing.milliseconds()
    with unit_of_work():
        free = (LiveSession.analyst_until_ms < at) | (LiveSession.analyst_until_ms > at + 2 * LEASE_MS)
        query = LiveSession.select(LiveSession.id).where(LiveSession.running.is_null(False), free)
        if passed_over:
            query = query.where(LiveSession.id.not_in(list(passed_over)))
        found = query.order_by(LiveSession.id).first()
        return None if found is None else int(found.id)


def watch_over(session_id: int) -> None:
    """Look at a session until it ends or another worker has it."""
    owner = str(uuid.uuid4())
    if not claim(session_id, owner):
        return
    with unit_of_work():
        session = LiveSession.get_by_id(session_id)
    analyst = Analyst(session)
    seen: tuple[int, int] = (-1, -1)
    while claim(session_id, owner):
        with unit_of_work():
            session = LiveSession.get_by_id(session_id)
        now = (session.batches, session.limits_version)
        begun = time.monotonic()
        if now != seen:
            limits = limits_of(session)
            found = analyst.analyse(limits)
            found["limits_version"] = session.limits_version
            keep(session_id, found)
            seen = now
        if live_overlays.may_be_driven(session):
            offer_next(session_id, analyst.context.table)
        time.sleep(max(_SHORTEST_S, _SHARE * (time.monotonic() - begun)))


@run_again
def keep(session_id: int, found: dict[str, Any]) -> None:
    """Keep what was found, unless more has been found by another."""
    with unit_of_work():
        LiveSession.update(analysis=json.dumps(found, ensure_ascii=False), analysed=LiveSession.analysed + 1).where(
            LiveSession.id == session_id
        ).execute()


@run_again
def offer_next(session_id: int, table: Table | None) -> int | None:
    """Make the next step of the overlay, if the car drives by the last and there is further to go; its number."""
    if table is None:
        return None
    with unit_of_work():
        session = LiveSession.get_by_id(session_id)
        correction = json.loads(session.analysis).get("correction") if session.analysis else None
        limits = limits_of(session)
        if not correction or not limits.on:
            return None
        driven = live_overlays.driven(session)
        now = driven.factors if driven is not None and driven.factors.shape == table.shape else neutral(table).factors
        step = next_step(table, now, _wanted(table, correction), limits)
        seconds = json.loads(session.analysis).get("seconds", 0.0)
        return None if step is None else live_overlays.offer(session_id, table.id, step, seconds)


def _wanted(table: Table, correction: dict[str, Any]) -> FloatArray:
    """The factors of a correction; NaN for cells that it does not change."""
    wanted = np.full(table.shape, np.nan)
    for cell in correction["cells"]:
        if cell["state"] in ("changed", "limited"):
            wanted[cell["j"], cell["i"]] = cell["factor"]
    return wanted
