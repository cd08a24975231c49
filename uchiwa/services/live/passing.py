"""Samples passed on by a program at the car: a session begun, fed, gone on with after a break, and ended."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.live.batch import MOST_BYTES, MOST_ROWS, read_batch
from uchiwa.core.live.opening import MOST_CHANNELS, MOST_RATE_HZ, Opening
from uchiwa.core.live.overlay import SILENCE_S
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.recognition.recognise import recognise_channel
from uchiwa.services.importing import ImportContext
from uchiwa.store import live_passing, live_sessions
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, LiveSession, Round

LIMITS = {
    "channels": MOST_CHANNELS,
    "rate_hz": MOST_RATE_HZ,
    "rows": MOST_ROWS,
    "bytes": MOST_BYTES,
    "session_bytes": live_passing.MOST_BYTES,
    "session_s": live_passing.MOST_SECONDS,
    "silence_s": live_passing.SILENCE_S,
    "overlay_silence_s": SILENCE_S,
}
"""What a session may have, as its program is told at the beginning."""
_NOTHING = np.full(2, np.nan)


@dataclass(frozen=True)
class BegunSession:
    """A session that has begun.

    Attributes:
        session: its row.
        key: which only its program knows.
        said: what the person at the car should know, such as a channel that is missing; empty if nothing.
    """

    session: LiveSession
    key: str
    said: str


def begin(job: Job, round_: Round, body: bytes) -> BegunSession:
    """Begin a session.

    Raises:
        RunningAlreadyError: another one of this car is being recorded.
        BadInput: the opening is written otherwise, or the shop has no room left.
    """
    opening = Opening.loads(body)
    session, key = live_passing.begin(job, round_, opening)
    return BegunSession(session, key, _lacking(session, opening))


def _lacking(session: LiveSession, opening: Opening) -> str:
    """What the brief asks for and the channels do not have, told before anything is driven."""
    with unit_of_work():
        context = ImportContext.of(session.log)
    channels = tuple(
        Channel(channel.name, channel.unit, _NOTHING, source_unit=channel.unit) for channel in opening.channels
    )
    knowledge = context.knowledge(Log("live", (Raster(_NOTHING, channels),)))
    known = {recognise_channel(channel, knowledge).quantity for channel in channels}
    if "engine_speed" not in known:
        return "No engine speed among the channels: add it, or nothing can be placed on a table."
    if context.brief is None:
        return ""
    must = [ask.title for ask in context.brief.asked if ask.priority == 1 and ask.quantity not in known]
    return f"Not among the channels: {', '.join(must)}. Add what you can, and begin again." if must else ""


@lru_cache(64)
def _channels(opening: str) -> int:
    return len(Opening.loads(opening).channels)


def take(session: LiveSession, texts: Sequence[bytes]) -> live_passing.Kept:
    """Keep batches; what is kept is acknowledged, and nothing else.

    Raises:
        BadInput: a batch cannot be read or does not follow on the last; those before it are kept.
        OverError: the session has ended.
    """
    channels = _channels(session.opening)
    ready: list[tuple[int, bytes, int]] = []
    refused: BadInput | None = None
    for text in texts:
        try:
            batch = read_batch(text, channels)
        except BadInput as error:
            refused = error
            break
        ready.append((batch.number, text.strip().replace(b"\n", b" ").replace(b"\r", b" "), batch.rows.shape[0]))
    kept = live_passing.take(session, ready)
    if not kept.running:
        raise live_passing.OverError(
            "the session has ended", where="the link", advice="go on with it, or begin a new one"
        )
    if refused is not None:
        raise refused
    return kept


def go_on(job: Job, session_id: int, key: str) -> LiveSession:
    """The session that a program goes on with after a break, reopened if it was ended by silence meanwhile.

    Raises:
        OverError: there is none of this key, or it has ended for good.
        RunningAlreadyError: another one has begun since.
    """
    with unit_of_work():
        session = live_passing.of_key(job, session_id, key)
    return session if session.running_id is not None else live_passing.reopen(session)


def end_silent() -> int:
    """End the sessions that have not been heard for two minutes, and those of over six hours; how many."""
    overlong = [(one, live_passing.TOO_LONG) for one in live_sessions.overlong()]
    silent = [(one, live_passing.SILENT) for one in live_sessions.silent()]
    return sum(live_passing.end(one, why) for one, why in overlong + silent)
