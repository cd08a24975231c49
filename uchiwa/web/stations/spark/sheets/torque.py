"""The torque sheet: what a degree is worth, and how much spark may go in."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.report import report
from uchiwa.core.pulls.trade import trades
from uchiwa.services.spark import SPARK_TABLE, TorqueWork, torque_work
from uchiwa.services.table_proposals import StepOrigin
from uchiwa.web.drawer.moments_picture import Moments
from uchiwa.web.grid.grid import Grid
from uchiwa.web.grid.proposal_grid import TableView
from uchiwa.web.proposal_sheets.sheet import TableSheet
from uchiwa.web.stations.spark.grid import torque_grid
from uchiwa.web.stations.spark.ladder_picture import hill, ladder

_KEYS = ("add", "add_far", "far", "most", "beyond", "knock_margin", "worth_percent")


def _grid(found: TorqueWork, view: TableView, waiting: BoolArray) -> Grid:
    return torque_grid(found.proposal, view, waiting)


def _first(found: TorqueWork) -> tuple[int, int]:
    """Where most spark would move, at the load of the runs."""
    return found.proposal.cell_of(max(found.proposal.decisions, key=lambda it: abs(it.after - it.spark)))


def _more(found: TorqueWork, i: int, j: int) -> dict[str, Any]:
    proposal = found.proposal
    column = proposal.speed_at(i, j)
    decision = next((one for one in proposal.decisions if one.column == column), None)
    displacement = found.context.base.constant("displacement")
    compared = {round(trade.centre): trade for trade in trades(proposal.bands, proposal.gains, displacement)}
    return {
        "ladder": ladder(proposal),
        "column": column,
        "cells": {one.column: proposal.cell_of(one) for one in proposal.decisions},
        "hill": hill(proposal, decision) if decision is not None else None,
        "decision": decision,
        "trade": compared.get(round(decision.speed)) if decision is not None else None,
        "trades": compared,
        "unheard": not proposal.knock.heard,
    }


def _moments(found: TorqueWork, i: int, j: int) -> Moments:
    """The newest pull through a column."""
    bands, pulls = found.proposal.bands, found.proposal.pulls
    i = found.proposal.speed_at(i, j)
    runs = np.flatnonzero(np.isfinite(bands.torque[:, i]))
    pull = pulls[int(runs[-1]) if runs.size else -1]
    inside = (pull.speed >= bands.edges[i]) & (pull.speed < bands.edges[i + 1])
    spans = [(float(pull.time[inside][0]), float(pull.time[inside][-1]))] if inside.any() else []
    row = next(one for one, log in zip(found.context.rows, found.context.logs, strict=True) if log.name == pull.log)
    title = f"The newest pull through this speed, of {row.name}"
    return Moments(
        row, spans, ("wheel_torque", "spark_advance", "knock_retard", "engine_speed", "throttle_position"), title
    )


TORQUE = TableSheet(
    "torque", SPARK_TABLE, StepOrigin("torque"), TorquePolicy, _KEYS, TableView, TableView.CHANGE,
    torque_work, _grid, _first, _more, lambda found: report(found.proposal), _moments,
)  # fmt: skip
