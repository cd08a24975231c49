"""Why a clamp lets out what it does: the pulls at its speed, and the arithmetic step by step."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.clamp.evidence import axes_of
from uchiwa.core.proposals.clamp.proposal import ClampProposal, State
from uchiwa.core.proposals.sample_account import LogShare, Moment, Step, moments, shares


@dataclass(frozen=True, eq=False)
class ClampAccount:
    """Everything behind one cell.

    Attributes:
        i, j: its column and row.
        speed, given: engine speed and input signal of the cell, in the axes' units.
        before, after: values.
        state: what the cell does.
        reached: signal that was reached at this speed.
        samples: at this speed.
        steps: the arithmetic.
        logs, moments: where the samples are from.
    """

    i: int
    j: int
    speed: float
    given: float
    before: float
    after: float
    state: State
    reached: float
    samples: float
    steps: tuple[Step, ...]
    logs: tuple[LogShare, ...]
    moments: tuple[Moment, ...]


def explain(proposal: ClampProposal, j: int, i: int) -> ClampAccount:
    """The account of a cell.

    Raises:
        BadInput: the table has no such cell.
    """
    table, evidence, policy = proposal.table, proposal.evidence, proposal.policy
    if not (0 <= j < table.shape[0] and 0 <= i < table.shape[1]):
        raise BadInput("the table has no such cell", advice="choose one of its cells")
    speeds, signals = axes_of(table)
    along, across = (i, j) if table.x is speeds else (j, i)
    reached, given = float(evidence.reached[along]), float(signals.breakpoints[across])
    inside = speeds.nearest(evidence.speed) == along
    found = moments(evidence.log, evidence.time, inside)
    steps = [Step("comes in", given, change=False), Step("reached at this speed before boost", reached, change=False)]
    if given > reached:
        steps.append(Step(f"with {policy.margin_percent:g} % margin", reached * policy.margin_percent / 100.0))
        if proposal.limit.item(along) < reached * (1 + policy.margin_percent / 100.0) - 1e-9:
            steps.append(Step("held to the sensor's ceiling", policy.ceiling, change=False))
    else:
        steps.append(Step("within what the car gave: goes through", given, change=False))
    steps.append(Step("goes out", float(proposal.after[j, i]), change=False))
    return ClampAccount(
        i, j, float(speeds.breakpoints[along]), given, float(table.grid[j, i]), float(proposal.after[j, i]),
        State(proposal.state[j, i]), reached, float(evidence.samples[along]), tuple(steps),
        shares(evidence.names, evidence.log, found, inside), found,
    )  # fmt: skip
