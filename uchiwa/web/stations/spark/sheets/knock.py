"""The knock sheet: where it knocked, whether it is real, and the spark that goes out."""

from __future__ import annotations

from typing import Any

import numpy as np

from uchiwa.core.knock.judgement import Cluster, Verdict
from uchiwa.core.knock.retard import LEARNED
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.report import report
from uchiwa.services.spark import SPARK_TABLE, KnockWork, knock_work
from uchiwa.services.table_proposals import StepOrigin
from uchiwa.web.drawer.moments_picture import Moments, title_of
from uchiwa.web.grid.grid import Grid
from uchiwa.web.proposal_sheets.sheet import TableSheet
from uchiwa.web.stations.spark.grid import KnockView, knock_grid

_MOST_EVENTS = 14
_AROUND_S = 1.5
_SHOWN = ("knock_retard", LEARNED, "knock_level", "marker", "spark_advance", "engine_speed")


def _holds(found: KnockWork) -> dict[int, Verdict]:
    return {cluster.number: found.holds(cluster) for cluster in found.proposal.clusters}


def _grid(found: KnockWork, view: KnockView, waiting: BoolArray) -> Grid:
    return knock_grid(found.proposal, view, waiting, _holds(found))


def _first(found: KnockWork) -> tuple[int, int]:
    """Of the gravest knock that counts, else where most time was spent."""
    for cluster in sorted(found.proposal.clusters, key=lambda one: found.holds(one) is Verdict.NOISE):
        worst = max(cluster.events, key=lambda event: event.event.retard)
        return worst.i, worst.j
    dwell = found.proposal.knock.dwell
    j, i = np.unravel_index(int(np.argmax(dwell)), dwell.shape)
    return int(i), int(j)


def _cluster_at(found: KnockWork, i: int, j: int) -> Cluster | None:
    return next((cluster for cluster in found.proposal.clusters if (i, j) in cluster.cells), None)


def _more(found: KnockWork, i: int, j: int) -> dict[str, Any]:
    at = found.context
    here = [event for event in found.proposal.knock.events if (event.i, event.j) == (i, j)]
    return {
        "cluster": _cluster_at(found, i, j),
        "holds": _holds(found),
        "events": here[:_MOST_EVENTS],
        "more": max(len(here) - _MOST_EVENTS, 0),
        "names": [at.row_of(number) for number in range(len(at.on_table))],
        "left_out": [row for row, log in zip(at.rows, at.logs, strict=True) if log not in at.on_table],
    }


def _moments(found: KnockWork, i: int, j: int) -> Moments:
    """The events of a cell's cluster in the log that has most of them."""
    cluster = _cluster_at(found, i, j)
    events = list(cluster.events) if cluster is not None else []
    numbers = [event.log for event in events]
    index = max(set(numbers), key=numbers.count) if numbers else 0
    spans = [
        (max(event.event.at - _AROUND_S, 0.0), event.event.at + _AROUND_S) for event in events if event.log == index
    ]
    log = found.context.row_of(index)
    return Moments(log, spans, _SHOWN, title_of(log, spans, "with this knock"))


KNOCK = TableSheet(
    "knock", SPARK_TABLE, StepOrigin("knock"), KnockPolicy, ("margin", "step", "slope", "widen", "learned"), KnockView, KnockView.RETARD,
    knock_work, _grid, _first, _more, lambda found: report(found.proposal), _moments,
)  # fmt: skip
