"""Why a cell got its number: its samples, what was left out, and the arithmetic step by step."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.bins import LEAST_WEIGHT, shares
from uchiwa.core.errors import BadInput
from uchiwa.core.log import BoolArray, FloatArray, IntArray
from uchiwa.core.proposals.correction import BIAS, CHOICE, DEAD_BAND, LIMIT, SMOOTHING, STRENGTH, UNREACHED, State
from uchiwa.core.proposals.evidence import Evidence
from uchiwa.core.proposals.fuel import FuelProposal
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.table import Table

_DOTS = 320
_MOMENT_GAP_S = 1.0


@dataclass(frozen=True)
class LogShare:
    """What one log gave to a cell."""

    name: str
    samples: float
    visits: int


@dataclass(frozen=True)
class Moment:
    """A stretch of a log, in seconds, that fed a cell."""

    log: int
    start: float
    end: float


@dataclass(frozen=True)
class Dot:
    """One sample of a cell: its error in %, its share in the cell, and which log it is from."""

    percent: float
    weight: float
    log: int


@dataclass(frozen=True)
class Step:
    """One line of the arithmetic; `percent` is a change in %, otherwise the value stands for itself."""

    words: str
    value: float
    percent: bool = True


@dataclass(frozen=True, eq=False)
class CellAccount:
    """Everything behind the proposed value of one cell."""

    i: int
    j: int
    x: float
    y: float | None
    before: float
    after: float
    state: State
    factor: float
    mean: float
    spread: float
    standard_error: float
    samples: float
    dwell: float
    visits: int
    steps: tuple[Step, ...]
    logs: tuple[LogShare, ...]
    left_out: dict[str, int]
    dots: tuple[Dot, ...]
    moments: tuple[Moment, ...]


def _nearest_cell(evidence: Evidence, table: Table) -> IntArray:
    """Flat index of the cell nearest to each sample; −1 where its place is not known."""
    known = np.isfinite(evidence.x)
    cell = table.x.nearest(np.nan_to_num(evidence.x))
    if table.y is not None and evidence.y is not None:
        known &= np.isfinite(evidence.y)
        cell = cell + table.y.nearest(np.nan_to_num(evidence.y)) * table.x.size
    return np.where(known, cell, -1)


def _moments(evidence: Evidence, inside: BoolArray) -> tuple[Moment, ...]:
    """Stretches in which samples lie in a cell; those less than a second apart are one."""
    at = np.flatnonzero(inside)
    if at.size == 0:
        return ()
    log, time = evidence.log[at], evidence.time[at]
    apart = (np.diff(log) != 0) | (np.diff(time) > _MOMENT_GAP_S)
    starts = np.concatenate(([0], np.flatnonzero(apart) + 1))
    ends = np.concatenate((np.flatnonzero(apart), [at.size - 1]))
    return tuple(Moment(int(log[a]), float(time[a]), float(time[b])) for a, b in zip(starts, ends, strict=True))


def _words(stage: str, policy: Policy, state: State) -> str:
    match stage:
        case "strength":
            return f"at {policy.strength:g} % strength"
        case "rich bias":
            return f"with {policy.rich_bias_percent:+g} % rich bias"
        case "smoothing":
            return f"drawn {policy.smoothing:g} % to its neighbours"
        case "unreached cells":
            return (
                "faded in from the cells around it" if policy.unreached == "fade" else "carried from the cells around"
            )
        case "limit per round":
            return f"held to ±{policy.limit_percent:g} % a round"
        case "dead band":
            return f"within the dead band of ±{policy.dead_band_percent:g} %"
        case _:
            return "pinned" if state is State.PINNED else "not among the cells chosen to change"


def _arithmetic(
    proposal: FuelProposal, j: int, i: int, means: tuple[float, float, float] | None, wideband: bool
) -> tuple[Step, ...]:
    steps: list[Step] = []
    correction, policy = proposal.correction, proposal.policy
    mean = float(proposal.bins.mean[j, i])
    state = State(correction.state[j, i])
    if means is not None:
        if wideband:
            steps.append(Step("measured λ over target, mean", means[0], percent=False))
        if policy.use_trims == "both":
            steps.append(Step("short-term trim, mean", means[1] * 100))
        if policy.use_trims in ("both", "long"):
            steps.append(Step("long-term trim, mean", means[2] * 100))
        steps.append(Step("error in this cell", (mean - 1) * 100))
    previous = mean if proposal.reached[j, i] else 1.0
    if not proposal.reached[j, i]:
        steps.append(Step("too little evidence to act on", 0.0))
    for stage in (DEAD_BAND, STRENGTH, BIAS, SMOOTHING, UNREACHED, LIMIT, CHOICE):
        factor = float(correction.stages[stage][j, i])
        shown = stage == STRENGTH and factor != 1.0
        if shown or abs(factor - previous) > 1e-9:
            steps.append(Step(_words(stage, policy, state), (factor - 1) * 100))
        previous = factor
    before, after = float(proposal.table.grid[j, i]), float(correction.after[j, i])
    exact = before * float(correction.factor[j, i])
    if abs(after - exact) > 0.51 * 10.0**-proposal.table.decimals:
        steps.append(Step("held by the table's own limits", (after / before - 1) * 100 if before else 0.0))
    return tuple(steps)


def explain(proposal: FuelProposal, j: int, i: int) -> CellAccount:
    """The account of the cell in row j, column i.

    Samples shown as dots are thinned evenly to a few hundred; the figures are of all of them.

    Raises:
        BadInput: the table has no such cell.
    """
    evidence, table, bins = proposal.evidence, proposal.table, proposal.bins
    rows, columns = table.shape
    if not (0 <= i < columns and 0 <= j < rows):
        raise BadInput("the table has no such cell", advice="choose one on the grid")
    cell = j * table.x.size + i
    used = np.flatnonzero(evidence.sieve.used)
    share = shares(
        table.x,
        table.y,
        evidence.x[used],
        evidence.y[used] if evidence.y is not None else None,
        proposal.policy.estimator,
    )
    mine = np.where(share.cell == cell, share.weight, 0.0).sum(axis=0)
    sample = used[mine > LEAST_WEIGHT]
    weight = mine[mine > LEAST_WEIGHT]
    inside = np.zeros(evidence.time.size, dtype=np.bool_)
    inside[sample] = True
    means: tuple[float, float, float] | None = None
    if sample.size:
        parts = evidence.parts
        means = (
            float(np.average(parts.mixture[sample], weights=weight)),
            float(np.average(parts.short_trim[sample], weights=weight)),
            float(np.average(parts.long_trim[sample], weights=weight)),
        )
    nearest = _nearest_cell(evidence, table)
    here = nearest == cell
    verdict = evidence.sieve.verdict[here]
    left_out = {
        reason: int((verdict == number).sum())
        for number, reason in enumerate(evidence.sieve.reasons)
        if (verdict == number).any()
    }
    starts = inside & ~np.concatenate(([False], inside[:-1] & (np.diff(evidence.breaks) == 0)))
    visits_of = np.bincount(evidence.log[starts], minlength=len(evidence.names))
    logs = tuple(
        LogShare(name, float(weight[evidence.log[sample] == log].sum()), int(visits_of[log]))
        for log, name in enumerate(evidence.names)
        if (evidence.log[sample] == log).any()
    )
    chosen: FloatArray = np.unique(np.linspace(0, sample.size - 1, min(sample.size, _DOTS)).round()).astype(np.float64)
    dots = tuple(
        Dot(float((evidence.error[sample[k]] - 1) * 100), float(weight[k]), int(evidence.log[sample[k]]))
        for k in chosen.astype(np.int64)
    )
    return CellAccount(
        i=i,
        j=j,
        x=float(table.x.breakpoints[i]),
        y=float(table.y.breakpoints[j]) if table.y is not None else None,
        before=float(table.grid[j, i]),
        after=float(proposal.correction.after[j, i]),
        state=State(proposal.correction.state[j, i]),
        factor=float(proposal.correction.factor[j, i]),
        mean=float(bins.mean[j, i]),
        spread=float(bins.spread[j, i]),
        standard_error=float(bins.standard_error[j, i]),
        samples=float(bins.samples[j, i]),
        dwell=float(bins.dwell[j, i]),
        visits=int(bins.visits[j, i]),
        steps=_arithmetic(proposal, j, i, means, wideband=bool((evidence.parts.mixture != 1.0).any())),
        logs=logs,
        left_out=left_out,
        dots=dots,
        moments=_moments(evidence, inside),
    )
