"""An overlay: a table of factors that the running car lays over its own airflow table, within bounds and in small steps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.briefs.coverage import load_shares
from uchiwa.core.live.limits import LiveLimits
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.tables.table import Table

STEP_PERCENT = 2.0
SILENCE_S = 2.0
"""So long a car may drive under an overlay without hearing from here; then it goes by its own calibration."""
_NEAR = 0.0005
DECIMALS = 5


@dataclass(frozen=True, eq=False)
class Overlay:
    """Factors on the axes of a table.

    Attributes:
        table: whose axes they stand on.
        factors: that its looked-up value is multiplied by; shape (rows, columns).
    """

    table: Table
    factors: FloatArray

    @property
    def percent(self) -> FloatArray:
        """The factors as changes in %."""
        return (self.factors - 1.0) * 100.0

    def at(self, x: FloatArray, y: FloatArray | None) -> FloatArray:
        """The factor at places of the table, as the controller looks it up."""
        return self.table.with_grid(self.factors).lookup(x, y)


def neutral(table: Table) -> Overlay:
    """The one that changes nothing."""
    return Overlay(table, np.ones(table.shape))


def bounded(table: Table, wanted: FloatArray, limits: LiveLimits) -> FloatArray:
    """Wanted factors within a session's bounds: at most its ± %, and above its load limit nothing leaned.

    A cell also counts as above the limit if the next one in the direction of load does: a looked-up value between the two
    would lean at load.

    Args:
        table: gives the axes.
        wanted: shape (rows, columns); NaN where nothing is known.
        limits: the session's.
    """
    most = limits.percent / 100.0
    found = np.clip(np.where(np.isfinite(wanted), wanted, 1.0), 1.0 - most, 1.0 + most)
    return np.where(lean_forbidden(table, limits), np.maximum(found, 1.0), found)


def lean_forbidden(table: Table, limits: LiveLimits) -> np.ndarray:
    """Cells that an overlay may not lean; all of them where the table has no axis of load."""
    load = load_shares(table)
    if not load.any():
        return np.ones(table.shape, dtype=np.bool_)
    above = load > limits.load_limit / 100.0
    near = above.copy()
    near[:-1] |= above[1:]
    near[:, :-1] |= above[:, 1:]
    return near


def next_step(table: Table, now: FloatArray, wanted: FloatArray, limits: LiveLimits) -> FloatArray | None:
    """The factors after the next step, each at most 2 % from where it is; None once they are where they are to be.

    What lies outside the bounds now, as after the limits were drawn in, goes back within them at once.

    Args:
        table: gives the axes.
        now: factors that the car has acknowledged.
        wanted: factors of the correction; NaN where there is none, which leaves a cell as it is.
        limits: the session's.
    """
    within = bounded(table, now, limits)
    goal = bounded(table, np.where(np.isfinite(wanted), wanted, within), limits)
    step = STEP_PERCENT / 100.0
    moved = np.round(within + np.clip(goal - within, -step, step), DECIMALS)
    return None if np.abs(moved - now).max() < _NEAR else moved
