"""Where spark starts for a worse fuel."""

from __future__ import annotations

import math
from collections.abc import Collection

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.tables.orientation import axis_of, load_axis
from uchiwa.core.tables.table import Table

MOST = 15.0


def start_lower(
    table: Table, points: float, degrees: float, pinned: Collection[tuple[int, int]] = (), lightest: float = 0.5
) -> FloatArray:
    """A spark table that starts lower for a fuel of fewer octane points: points · degrees, whole from half load up.

    Below the load that lies `lightest` of the way up the loads the offset fades to nothing at the lightest load, where
    nothing knocks. A better fuel adds nothing: evidence has to.

    Args:
        table: of spark, degrees.
        points: octane points by which the fuel is worse; not below 0.
        degrees: for each point, as the tuner holds it; there is no usual value.
        pinned: cells [i, j] that stay.
        lightest: share of the loads, 0 … 1.

    Raises:
        BadInput: a number is below zero, or the offset is beyond all reason.
    """
    offset = points * degrees
    if not (math.isfinite(offset) and points >= 0 and degrees >= 0):
        raise BadInput(
            "octane points and degrees a point are not below zero", advice="a better fuel has to earn its spark"
        )
    if offset > MOST:
        raise BadInput(f"{offset:g}° is more than {MOST:g}°", advice="check points and degrees a point")
    along = load_axis(table)
    axis = axis_of(table, along)
    share = np.ones(table.shape)
    if axis is not None and axis.size > 1 and table.y is not None:
        loads = axis.breakpoints
        up = np.clip((loads - loads[0]) / max(float(loads[-1] - loads[0]) * lightest, 1e-9), 0.0, 1.0)
        share = np.broadcast_to(up[:, None] if along == 0 else up[None, :], table.shape)
    after = table.rounded(table.grid - offset * share)
    stay = cells_mask(tuple(pinned), table.shape, default=False)
    return np.where(stay, table.grid, np.minimum(after, table.grid))
