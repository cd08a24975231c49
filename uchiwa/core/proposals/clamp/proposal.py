"""A clamp over an airflow signal: what the car gave before boost goes through, what lies above it does not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from enum import StrEnum

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.clamp.evidence import ROLE, ClampEvidence, axes_of, gather_clamp
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen


class State(StrEnum):
    """What a cell does."""

    CLAMPED = "clamped"
    THROUGH = "through"
    FILLED = "filled"
    PINNED = "pinned"
    KEPT = "kept"


@dataclass(frozen=True, eq=False)
class ClampProposal:
    """A clamp as proposed; arrays of shape (rows, columns) of `table`, which has the proposed breakpoints.

    Attributes:
        before: the table in the car.
        table: the same with the breakpoints that are proposed, its values read off at them.
        evidence: it rests on.
        after: proposed values.
        limit: what the clamp lets out at each speed breakpoint, in the signal's unit.
        state: a `State` each.
        policy: that it was made with.
        notes: what to know of it, as sentences.
    """

    before: Table
    table: Table
    evidence: ClampEvidence
    after: FloatArray
    limit: FloatArray
    state: NDArray[np.object_]
    policy: ClampPolicy
    notes: tuple[str, ...]

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.table.with_grid(self.after)

    @property
    def respread(self) -> bool:
        """Whether the signal's breakpoints are others than in the car."""
        return any(
            mine is not None and old is not None and not np.array_equal(mine.breakpoints, old.breakpoints)
            for mine, old in ((self.table.x, self.before.x), (self.table.y, self.before.y))
        )


def clamp_table(calibration: Calibration, table_id: str) -> Table:
    """A clamp of an airflow signal.

    Raises:
        BadInput: there is none of this id.
    """
    table = next((one for one in calibration.tables if one.id == table_id), None)
    if table is None or table.role != ROLE:
        known = ", ".join(one.id for one in calibration.by_role(ROLE)) or "none"
        raise BadInput(f"“{table_id}” is not a clamp", advice=f"those of this calibration are: {known}")
    axes_of(table)
    return table


def clamp_proposal(logs: Sequence[Log], calibration: Calibration, table_id: str, policy: ClampPolicy) -> ClampProposal:
    """A clamp from full-load pulls before boost.

    Raises:
        BadInput: there is no such table, or the logs do not tell; see `gather_clamp`.
    """
    table = clamp_table(calibration, table_id)
    return proposal_from(gather_clamp(logs, table, policy), table, policy)


def proposal_from(evidence: ClampEvidence, before: Table, policy: ClampPolicy) -> ClampProposal:
    """Every cell whose input lies above the signal reached at its speed gives that signal and the margin; others pass it on."""
    speeds, signals = axes_of(before)
    notes = list(evidence.notes)
    table = before
    if policy.respread and not policy.pinned and policy.only is None:
        table = _respread(before, signals, evidence, policy)
    elif policy.respread:
        notes.append("cells are pinned or chosen by their place: the breakpoints stay as they are")
    speeds, signals = axes_of(table)
    along_x = table.x is speeds
    limit = np.minimum(evidence.reached * (1.0 + policy.margin_percent / 100.0), policy.ceiling)
    given = signals.breakpoints
    grid_in = np.repeat(given[:, None], speeds.size, axis=1)
    above = grid_in > evidence.reached[None, :] * (1.0 + 1e-9)
    out = np.where(above, limit[None, :], np.minimum(grid_in, policy.ceiling))
    fine = 10.0**table.decimals
    # A clamp is rounded down, so that it lets out no more than was meant.
    out = np.where(above, np.floor(out * fine + 1e-6) / fine, out)
    oriented = out if along_x else out.T
    clamped = above if along_x else above.T
    filled = np.repeat((evidence.samples < policy.minimum_samples)[None, :], signals.size, axis=0)
    filled = filled if along_x else filled.T
    pinned = cells_mask(policy.pinned, table.shape, default=False)
    open_: BoolArray = cells_mask(policy.only, table.shape, default=True) & ~pinned
    after = np.where(open_, table.rounded(oriented), table.grid)
    state = np.full(table.shape, State.THROUGH, dtype=object)
    state[clamped] = State.CLAMPED
    state[clamped & filled] = State.FILLED
    state[~open_] = State.KEPT
    state[pinned] = State.PINNED
    if policy.ceiling < evidence.highest:
        notes.append("the sensor's ceiling lies below the signal that was reached: it is what limits")
    if table.minimum is not None and table.maximum is not None and float(limit.max()) > table.maximum:
        notes.append("the table's own limit lies below the clamp")
    return ClampProposal(before, table, evidence, after, limit, state, policy, tuple(notes))


def _respread(before: Table, signals: Axis, evidence: ClampEvidence, policy: ClampPolicy) -> Table:
    """The table with its signal breakpoints spread evenly from the lowest to the highest signal seen and its margin.

    A first breakpoint of zero stays. The last one lies at the highest clamp, so that what comes above it is clamped as well.

    Raises:
        BadInput: what was seen is too little to be spread over.
    """
    highest = min(evidence.highest * (1.0 + policy.margin_percent / 100.0), policy.ceiling)
    keeps_zero = signals.breakpoints[0] == 0.0 and evidence.lowest > 0.0
    size = signals.size - (1 if keeps_zero else 0)
    points = np.round(np.linspace(evidence.lowest, highest, size), 3)
    if keeps_zero:
        points = np.concatenate(([0.0], points))
    if not (np.diff(points) > 0).all():
        raise BadInput(
            "the signals seen lie too near to each other to spread breakpoints over", advice="keep them as they are"
        )
    axis = replace(signals, breakpoints=frozen(points))
    x, y = (axis, before.y) if before.x is signals else (before.x, axis)
    if y is None:
        raise TypeError("a clamp has two axes")
    at_x, at_y = np.meshgrid(x.breakpoints, y.breakpoints)
    values = before.lookup(at_x.ravel(), at_y.ravel()).reshape(at_x.shape)
    return replace(before, x=x, y=y, values=frozen(before.rounded(values)))
