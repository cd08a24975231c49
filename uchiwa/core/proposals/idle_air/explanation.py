"""Why an idle airflow got its value: its samples, and the arithmetic step by step."""

from __future__ import annotations

import math
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.idle.moments import Gear
from uchiwa.core.proposals.falling_curve import CHANCE, DEAD_BAND, FALLING, LIMIT, OWN, STRENGTH, TREND, State
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.proposals.idle_air.proposal import GearCurve, IdleAirProposal
from uchiwa.core.proposals.sample_account import LogShare, Moment, Step, moments, shares

_LEAST = 5e-3


@dataclass(frozen=True, eq=False)
class IdleAirAccount:
    """Everything behind one value.

    Attributes:
        i, j: its column and row.
        gear: of the row.
        coolant: of the column, in the axis's unit.
        before, after: values.
        state: what happened to it.
        needed, half_width: what the samples say the engine needs, and its 95 % interval; NaN without any.
        samples, dwell, stretches: behind it.
        steps: the arithmetic.
        logs, moments: where the samples are from.
    """

    i: int
    j: int
    gear: Gear
    coolant: float
    before: float
    after: float
    state: State
    needed: float
    half_width: float
    samples: float
    dwell: float
    stretches: int
    steps: tuple[Step, ...]
    logs: tuple[LogShare, ...]
    moments: tuple[Moment, ...]


def explain(proposal: IdleAirProposal, j: int, i: int) -> IdleAirAccount:
    """The account of a cell.

    Raises:
        BadInput: the table has no such cell.
    """
    table, evidence = proposal.table, proposal.evidence
    if not (0 <= j < table.shape[0] and 0 <= i < table.shape[1]):
        raise BadInput("the table has no such cell", advice="choose one of its cells")
    curve = proposal.curve(j)
    inside = evidence.of(curve.gear) & (table.x.nearest(evidence.coolant) == i)
    found = moments(evidence.log, evidence.time, inside)
    seen = curve.fit.weight.item(i) > 0
    return IdleAirAccount(
        i, j, curve.gear, float(table.x.breakpoints[i]), float(table.grid[j, i]), float(proposal.after[j, i]),
        State(proposal.state[j, i]),
        curve.fit.value.item(i) if seen else math.nan,
        curve.fit.half_width.item(i) if seen else math.nan,
        curve.fit.weight.item(i), curve.fit.dwell.item(i), int(curve.fit.stretches[i]),
        tuple(_steps(proposal, curve, i)), shares(evidence.names, evidence.log, found, inside), found,
    )  # fmt: skip


def _steps(proposal: IdleAirProposal, curve: GearCurve, i: int) -> list[Step]:
    policy, stages, moved = proposal.policy, curve.moved.stages, curve.moved
    found = [Step("in the car", float(proposal.table.grid[curve.row, i]), change=False)]
    if moved.reached[i]:
        wanted = float(curve.fit.value[i] - proposal.table.grid[curve.row, i])
        beside = "what it needs is further by"
        found.append(Step(beside if curve.load is None else f"{beside}, a switched load at its mean", wanted))
        last = wanted
        for stage, words in _words(policy).items():
            value = float(stages[stage][i])
            if abs(value - last) > _LEAST:
                found.append(Step(words, value))
            last = value
    elif math.isfinite(curve.offset.item(i)):
        found.append(Step("in neutral, as proposed", float(proposal.after[_neutral(proposal), i]), change=False))
        found.append(Step("in gear above neutral", curve.offset.item(i)))
    elif abs(float(stages[TREND][i])) > _LEAST:
        found.append(Step("follows the temperatures that were reached", float(stages[TREND][i])))
    found.append(Step("proposed", float(proposal.after[curve.row, i]), change=False))
    return found


def _neutral(proposal: IdleAirProposal) -> int:
    return next(curve.row for curve in proposal.curves if curve.gear is Gear.NEUTRAL)


def _words(policy: IdleAirPolicy) -> dict[str, str]:
    return {
        DEAD_BAND: f"within the dead band of ±{policy.dead_band_gs:g} g/s",
        CHANCE: "no change lies within the 95 % interval: not acted on",
        STRENGTH: f"at {policy.strength:g} % strength",
        LIMIT: f"held to ±{policy.limit_gs:g} g/s a round",
        OWN: "its own samples point the other way: it stays",
        TREND: "pinned, or not among those chosen",
        FALLING: "kept from rising with temperature",
    }
