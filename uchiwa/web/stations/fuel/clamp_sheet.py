"""The sheet of a signal clamp: signal over speed with the pulls, the clamp, and the grid below."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.clamp.evidence import axes_of
from uchiwa.core.proposals.clamp.explanation import explain
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.proposals.clamp.report import report
from uchiwa.services.idle import AS_CLAMP, CLAMP, ClampWork, clamp_work
from uchiwa.web.drawer.moments_picture import Moments, title_of
from uchiwa.web.grid.grid import Grid
from uchiwa.web.grid.proposal_grid import TableView, drawn_grid, table_view
from uchiwa.web.proposal_sheets.sheet import TableSheet
from uchiwa.web.stations.fuel.clamp_picture import clamp_picture

_KEYS = ("margin_percent", "quantile", "ceiling", "full_load_throttle", "respread", "before_boost")
_FULL = 1.0
_SAMPLES_A_SECOND = 20.0


def _grid(found: ClampWork, view: TableView, waiting: BoolArray) -> Grid:
    proposal = found.proposal
    table = proposal.table
    speeds, _ = axes_of(table)
    seconds = proposal.evidence.samples / _SAMPLES_A_SECOND
    dwell = np.broadcast_to(seconds[None, :] if table.x is speeds else seconds[:, None], table.shape)
    draw = table_view(table, proposal.after, view, _FULL, table.decimals)
    return drawn_grid(table, dwell, proposal.state, waiting, draw)


def _first(found: ClampWork) -> tuple[int, int]:
    """The highest input at the speed with most samples."""
    table = found.proposal.table
    speeds, signals = axes_of(table)
    along = int(np.argmax(found.proposal.evidence.samples))
    return (along, signals.size - 1) if table.x is speeds else (signals.size - 1, along)


def _more(found: ClampWork, i: int, j: int) -> dict[str, Any]:
    proposal = found.proposal
    return {
        "account": explain(proposal, j, i),
        "picture": clamp_picture(proposal),
        "signal_unit": axes_of(proposal.table)[1].unit,
        "logs": found.proposal.evidence.names,
    }


def _moments(found: ClampWork, i: int, j: int) -> Moments:
    account = explain(found.proposal, j, i)
    _, signals = axes_of(found.proposal.table)
    traces = (signals.quantity, "engine_speed", "throttle_position", "manifold_pressure")
    if not account.logs:
        return Moments(found.rows[0], [], traces, "No pull reached this speed")
    number = max(account.logs, key=lambda log: log.samples).number
    spans = [(moment.start, moment.end) for moment in account.moments if moment.log == number]
    return Moments(found.rows[number], spans, traces, title_of(found.rows[number], spans, "at full load at this speed"))


CLAMP_SHEET = TableSheet(
    "clamp", CLAMP, AS_CLAMP, ClampPolicy, _KEYS, TableView, TableView.PROPOSED, clamp_work, _grid, _first, _more,
    lambda found: report(found.proposal), _moments,
    waiting=lambda found: found.to_take,
    taken=lambda found, chosen: found.taking(chosen),
    after_taking="proposed",
)  # fmt: skip
