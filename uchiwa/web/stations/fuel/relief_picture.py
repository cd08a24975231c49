"""A proposal drawn as a relief."""

from __future__ import annotations

import numpy as np

from uchiwa.core.proposals.fuel.proposal import FuelProposal
from uchiwa.web.grid.grid import View, diverging, one_hue
from uchiwa.web.svg.relief import ReliefPicture, ReliefStyle, relief


def relief_picture(proposal: FuelProposal, view: View, turn: int) -> ReliefPicture:
    """The surface of a view of a proposal for a table with two axes, turned by 24ths of a full turn.

    Error and difference rise over their zero, values from their lowest.
    """
    table, correction = proposal.table, proposal.correction
    with np.errstate(invalid="ignore", divide="ignore"):
        change = np.where(table.grid != 0, (correction.after / table.grid - 1) * 100, 0.0)
    error = (proposal.estimate.factor - 1) * 100
    dwell = proposal.bins.dwell
    values = {
        View.ERROR: np.where(proposal.reached, np.nan_to_num(error), 0.0),
        View.PROPOSED: correction.after,
        View.DIFFERENCE: change,
        View.EVIDENCE: np.sqrt(np.minimum(dwell, 20.0) / 20.0),
    }[view]
    low, high = float(values.min()), float(values.max())
    if view in (View.ERROR, View.DIFFERENCE):
        reach = max(abs(low), abs(high), 3.0)
        return relief(
            table, values, ReliefStyle((-reach, reach), lambda one: diverging(one) or "flat", dwell > 0), turn
        )
    span = (high - low) or 1.0
    return relief(table, values, ReliefStyle((low, high), lambda one: one_hue((one - low) / span), dwell > 0), turn)
