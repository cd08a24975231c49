"""The knock-limit sheet: the level below which the sensor hears only the engine itself."""

from __future__ import annotations

from typing import Any

from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.report import report
from uchiwa.services.spark import LIMIT_TABLE, LimitWork, limit_work
from uchiwa.services.table_proposals import StepOrigin
from uchiwa.web.drawer.moments_picture import Moments
from uchiwa.web.grid.grid import Grid
from uchiwa.web.grid.proposal_grid import TableView
from uchiwa.web.proposal_sheets.sheet import TableSheet
from uchiwa.web.stations.spark.grid import limit_grid
from uchiwa.web.stations.spark.level_picture import level_picture


def _grid(found: LimitWork, view: TableView, waiting: BoolArray) -> Grid:
    return limit_grid(found.proposal, view, waiting)


def _first(_found: LimitWork) -> tuple[int, int]:
    return 0, 0


def _more(found: LimitWork, _i: int, j: int) -> dict[str, Any]:
    return {"level": level_picture(found.proposal, j)}


def _moments(found: LimitWork, _i: int, _j: int) -> Moments:
    """Level and limit in the first safe log."""
    log = found.safe[0]
    return Moments(log, [], ("knock_level", "knock_limit", "engine_speed"), f"The level in {log.name}, a safe log")


LIMIT = TableSheet(
    "limit", LIMIT_TABLE, StepOrigin("knock limit"), ThresholdPolicy, ("quantile", "margin", "least"), TableView,
    TableView.PROPOSED, limit_work, _grid, _first, _more, lambda found: report(found.proposal), _moments,
)  # fmt: skip
