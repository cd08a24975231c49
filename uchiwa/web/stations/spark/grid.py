"""Tables of the Spark station as grids: knock, what torque asks for, and knock limits."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum

import numpy as np

from uchiwa.core.knock.judgement import Verdict
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.proposals.knock.proposal import KnockProposal
from uchiwa.core.proposals.knock_limit.proposal import ThresholdProposal
from uchiwa.core.proposals.torque.proposal import TorqueProposal
from uchiwa.core.tables.difference import signed
from uchiwa.web.grid.grid import Grid, one_hue
from uchiwa.web.grid.proposal_grid import Drawn, TableView, drawn_grid, share_of, table_view, turned

FULL_CHANGE = 6.0
"""Degrees at which the fill of a change is full."""
FULL_RETARD = 6.0
FULL_PER_MINUTE = 30.0
FULL_LIMIT_CHANGE = 0.6


class KnockView(StrEnum):
    """What the cells of the knock grid show."""

    RETARD = "retard"
    EVENTS = "events"
    PROPOSED = "proposed"
    CHANGE = "change"


def changed_text(change: float) -> str:
    """A change in degrees, or a dot for none."""
    return signed(change) if abs(change) > 1e-9 else "·"


def knock_grid(proposal: KnockProposal, view: KnockView, waiting: BoolArray, holds: Mapping[int, Verdict]) -> Grid:
    """The knock grid; `holds` tells by number of the cluster what it counts as, and marks its cells."""
    table, knock = proposal.table, proposal.knock
    of_cell = {cell: cluster.number for cluster in proposal.clusters for cell in cluster.cells}
    per_minute = knock.per_minute

    def draw(i: int, j: int) -> Drawn:
        number = of_cell.get((i, j))
        marks = (f"knock-{holds[number].value}",) if number is not None else ()
        worst, after = float(knock.worst[j, i]), float(proposal.after[j, i])
        change = after - float(table.grid[j, i])
        match view:
            case KnockView.RETARD:
                text = f"{worst:.1f}" if worst > 0 else ("0" if knock.dwell[j, i] > 0 else "")
                return Drawn(text, one_hue(worst / FULL_RETARD) if worst > 0 else "", marks)
            case KnockView.EVENTS:
                count, often = int(knock.count[j, i]), float(np.nan_to_num(per_minute[j, i]))
                text = str(count) if knock.dwell[j, i] > 0 else ""
                return Drawn(text, one_hue(often / FULL_PER_MINUTE) if count else "", marks)
            case KnockView.PROPOSED:
                return Drawn(f"{after:.{table.decimals}f}", share_of(proposal.after, after), marks)
            case _:
                return Drawn(changed_text(change), turned(change, FULL_CHANGE), marks)

    return drawn_grid(table, knock.dwell, proposal.state, waiting, draw)


def torque_grid(proposal: TorqueProposal, view: TableView, waiting: BoolArray) -> Grid:
    """The spark table as torque asks for it; the bars are the time of all logs in the cells."""
    draw = table_view(proposal.table, proposal.after, view, FULL_CHANGE / 2, 1)
    knocks = {cell for cluster in proposal.judged if cluster.verdict is not Verdict.NOISE for cell in cluster.cells}

    def marked(i: int, j: int) -> Drawn:
        one = draw(i, j)
        return Drawn(one.text, one.fill, ("knock-real",) if (i, j) in knocks else ())

    return drawn_grid(proposal.table, proposal.knock.dwell, proposal.state, waiting, marked)


def limit_grid(proposal: ThresholdProposal, view: TableView, waiting: BoolArray) -> Grid:
    """The table of knock limits; the bars are samples of safe runs, ten as a second."""
    draw = table_view(proposal.table, proposal.after, view, FULL_LIMIT_CHANGE, proposal.table.decimals)
    return drawn_grid(proposal.table, proposal.samples / 10.0, proposal.state, waiting, draw)
