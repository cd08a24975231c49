"""What the Live page shows when it is opened: the session, its strips, the table under the engine, limits, messages."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from uchiwa.core.live.limits import LiveLimits
from uchiwa.core.tables.table import Table
from uchiwa.core.viewing.alignment import Alignment
from uchiwa.core.viewing.arrangement import PURPOSES
from uchiwa.services.live import growing
from uchiwa.services.live.analysis import Analysis
from uchiwa.services.reading import Reader
from uchiwa.store import live_events, live_sessions, log_states, messages
from uchiwa.store.collected import collected
from uchiwa.store.conflict import BeingReadError
from uchiwa.store.models import LiveSession
from uchiwa.web.live.telling import event_data
from uchiwa.web.round_context import RoundPage
from uchiwa.web.stations.live.grid import LiveView, cells_of, live_grid
from uchiwa.web.strips.view import StripsQuery, plan

_MOST_PAST = 8


@dataclass(frozen=True)
class ShownSession:
    """What of a session is shown.

    Attributes:
        show: arrangement of the strips, or a purpose's id.
        table: id of the table; empty for the one under work.
        view: what its cells show.
    """

    show: str = ""
    table: str = ""
    view: LiveView = LiveView.ERROR


def chosen_session(page: RoundPage, session_id: int | None) -> LiveSession | None:
    """The session that is asked for; else the one that runs; else the last of this round."""
    if session_id is not None:
        return live_sessions.find(page.job, session_id)
    latest = live_sessions.latest_of(page.job)
    return latest if latest is not None and latest.log.round_id == page.round.id else None


def values_of(page: RoundPage, session: LiveSession, shown: ShownSession) -> dict[str, Any]:
    """Everything that the page of a session needs."""
    followed = growing.follow(session)
    followed.advance()
    tables = {one.id: one for one in followed.tables.values()}
    table = tables.get(shown.table) or followed.context.table or next(iter(tables.values()), None)
    analysis = Analysis.of(session)
    filling = followed.filling(table.id) if table is not None else None
    grid = live_grid(filling, shown.view, analysis.correction)[0] if filling is not None else None
    events = live_events.latest(session.id)
    return {
        "session": session,
        "plan": _plan(page, session, shown.show),
        "purposes": PURPOSES,
        "tables": list(tables.values()),
        "table": table,
        "grid": grid,
        "view": shown.view,
        "views": list(LiveView),
        "limits": analysis.limits,
        "found": analysis.parts,
        "events": [event_data(event) for event in events],
        "messages": messages.of(page.job),
        "items": collected(page.job, page.round).items,
        "past": past(page),
        "dense": table is not None and table.x.size > 17,
        "curve": table is not None and table.y is None,
    }


def all_cells(session: LiveSession, table: str, view: LiveView) -> list[list[Any]]:
    """Every cell of a table in a view, as it is drawn; none without such a table."""
    followed = growing.follow(session)
    followed.advance()
    filling = followed.filling(table)
    if filling is None:
        return []
    return cells_of(filling, view, Analysis.of(session).correction, np.ones(filling.table.shape, dtype=np.bool_))


def _plan(page: RoundPage, session: LiveSession, show: str) -> dict[str, Any] | None:
    """The strips' plan; None as long as there is nothing to draw."""
    if session.log.state == log_states.REFUSED:
        return None
    asked = StripsQuery(page.user, page, (session.log,), show, Alignment.TIME, {})
    reader = Reader(page.job, page.user.shop_id)
    try:
        return plan(asked, reader, f"{page.path}/read")
    except BeingReadError:
        return None


def past(page: RoundPage) -> list[LiveSession]:
    """The last sessions of the job, newest first."""
    return live_sessions.recent(page.job, _MOST_PAST)


def form_limits(form: dict[str, str], now: LiveLimits) -> LiveLimits:
    """Limits as the sentence has them.

    Raises:
        BadInput: a number is none, or out of range.
    """
    given = now.model_dump(mode="json")
    for key in ("after_s", "coolant", "samples", "seconds", "percent", "load_limit", "strength"):
        if key in form:
            given[key] = form[key].strip().replace(",", ".")
    for key in ("on", "opening"):
        if key in form:
            given[key] = form[key] == "true"
    return LiveLimits.read(given, "the limits")


def title_of(table: Table | None) -> str:
    """A table's words."""
    return table.title if table is not None else ""
