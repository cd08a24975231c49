"""Why a warm-up factor got its value: its samples, and the arithmetic step by step."""

from __future__ import annotations

import math
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.falling_curve import CHANCE, DEAD_BAND, FALLING, LIMIT, OWN, STRENGTH, TREND, State
from uchiwa.core.proposals.sample_account import LogShare, Moment, Step, moments, shares
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.proposals.warm_up.proposal import WarmUpProposal, warm_points

_LEAST = 5e-3


@dataclass(frozen=True, eq=False)
class WarmUpAccount:
    """Everything behind one value.

    Attributes:
        i: its place.
        coolant: there, in the axis's unit.
        before, after: values.
        state: what happened to it.
        needed, half_width: the factor that the samples ask for, and its 95 % interval; NaN without any.
        error: mean e of its samples less 1, as a fraction; NaN without any.
        samples, dwell, stretches: behind it.
        steps: the arithmetic.
        logs, moments: where the samples are from.
    """

    i: int
    coolant: float
    before: float
    after: float
    state: State
    needed: float
    half_width: float
    error: float
    samples: float
    dwell: float
    stretches: int
    steps: tuple[Step, ...]
    logs: tuple[LogShare, ...]
    moments: tuple[Moment, ...]


def explain(proposal: WarmUpProposal, i: int) -> WarmUpAccount:
    """The account of a value.

    Raises:
        BadInput: the curve has no such value.
    """
    table, evidence, fit = proposal.table, proposal.evidence, proposal.fit
    if not 0 <= i < table.shape[1]:
        raise BadInput("the curve has no such value", advice="choose one of its temperatures")
    inside = evidence.sieve.used & (table.x.nearest(evidence.coolant) == i)
    found = moments(evidence.log, evidence.time, inside)
    seen = fit.weight.item(i) > 0
    before = float(table.grid[0, i])
    return WarmUpAccount(
        i, float(table.x.breakpoints[i]), before, float(proposal.after[0, i]), State(proposal.state[0, i]),
        fit.value.item(i) if seen else math.nan,
        fit.half_width.item(i) if seen else math.nan,
        float(evidence.error[inside].mean()) - 1.0 if inside.any() else math.nan,
        fit.weight.item(i), fit.dwell.item(i), int(fit.stretches[i]),
        tuple(_steps(proposal, i)), shares(evidence.names, evidence.log, found, inside), found,
    )  # fmt: skip


def _steps(proposal: WarmUpProposal, i: int) -> list[Step]:
    stages, moved, policy = proposal.moved.stages, proposal.moved, proposal.policy
    before = float(proposal.table.grid[0, i])
    found = [Step("in the car", before, change=False)]
    if warm_points(proposal.table, policy)[i]:
        found.append(Step("warm: exactly 100 %", float(proposal.after[0, i]) - before))
    elif moved.reached[i]:
        last = float(proposal.fit.value[i]) - before
        found.append(Step("what it needs is further by", last))
        for stage, words in _words(policy).items():
            value = float(stages[stage][i])
            if abs(value - last) > _LEAST:
                found.append(Step(words, value))
            last = value
    elif abs(float(stages[TREND][i])) > _LEAST:
        found.append(Step("not reached: the trend of those that were, on the rich side", float(stages[TREND][i])))
    found.append(Step("proposed", float(proposal.after[0, i]), change=False))
    return found


def _words(policy: WarmUpPolicy) -> dict[str, str]:
    return {
        DEAD_BAND: f"within the dead band of ±{policy.dead_band_percent:g} %",
        CHANCE: "no change lies within the 95 % interval: not acted on",
        STRENGTH: f"at {policy.strength:g} % strength",
        LIMIT: f"held to ±{policy.limit_percent:g} % a round",
        OWN: "its own samples point the other way: it stays",
        TREND: "pinned, or not among those chosen",
        FALLING: "kept from rising with temperature",
    }
