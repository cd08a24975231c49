"""Why a cell got its number: its samples, what was left out, and the arithmetic step by step."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.bins import LEAST_WEIGHT, shares
from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.proposals.fuel.correction import STAGES, STRENGTH, State
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import FuelProposal
from uchiwa.core.proposals.fuel.samples import Evidence
from uchiwa.core.proposals.sample_account import Moment, moments
from uchiwa.core.tables.table import Table

_DOTS = 320


@dataclass(frozen=True)
class LogShare:
    """What one log gave to a cell."""

    name: str
    samples: float
    visits: int


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
    error: float
    spread: float
    standard_error: float
    banks: float
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


_UNREACHED_WORDS = {
    "fade": "faded in from the cells around it",
    "carry": "carried on from the nearest cell",
    "surface": "following the surface, as far as it is sure",
}
_STAGE_WORDS: dict[str, Callable[[Policy], str]] = {
    "rich bias": lambda policy: f"aimed {policy.rich_bias_percent:+g} % richer",
    "dead band": lambda policy: f"within the dead band of ±{policy.dead_band_percent:g} %",
    "chance": lambda _: "no change lies within the 95 % interval: not acted on",
    "strength": lambda policy: f"at {policy.strength:g} % strength",
    "smoothing": lambda policy: f"drawn {policy.smoothing:g} % to its neighbours",
    "limit per round": lambda policy: f"held to ±{policy.limit_percent:g} % a round",
    "own samples": lambda _: "its own samples point the other way: it stays",
    "unreached cells": lambda policy: _UNREACHED_WORDS.get(policy.unreached, "left as it is"),
    "above the measured load": lambda _: "above the highest load measured here: never leaned by filling",
    "rising": lambda _: "kept rising from point to point",
    "refit": lambda _: "as near as the zone's polynomial comes",
}


def _words(stage: str, policy: Policy, state: State) -> str:
    words = _STAGE_WORDS.get(stage)
    if words is not None:
        return words(policy)
    return "pinned" if state is State.PINNED else "not among the cells chosen to change"


@dataclass(frozen=True)
class _Means:
    """Means over the samples of a cell: of the mixture over its target, of the trims, of what was taken out or laid over."""

    mixture: float
    short_trim: float
    long_trim: float
    transient: float
    overlay: float


def _measured(proposal: FuelProposal, j: int, i: int, means: _Means, wideband: bool) -> list[Step]:
    """From the samples to the error of the cell."""
    policy, mean = proposal.policy, float(proposal.bins.mean[j, i])
    steps: list[Step] = []
    if policy.source != "fuel":
        trusted = "the meter" if policy.source == "meter" else "speed density"
        steps.append(Step(f"air by {trusted} over this table's, mean", means.mixture, percent=False))
    elif wideband:
        steps.append(Step("measured λ over target, mean", means.mixture, percent=False))
    if policy.source == "fuel" and policy.use_trims == "both":
        steps.append(Step("short-term trim, mean", means.short_trim * 100))
    if policy.source == "fuel" and policy.use_trims in ("both", "long"):
        steps.append(Step("long-term trim, mean", means.long_trim * 100))
    if means.overlay:
        steps.append(Step("overlay of the live session, mean", means.overlay * 100))
    if proposal.evidence.transients:
        words = " and ".join(transient.words for transient in proposal.evidence.transients)
        steps.append(Step(f"{words}, taken out", (means.transient - 1) * 100))
    factor = float(proposal.estimate.factor[j, i])
    if policy.estimator == "nearest" or not np.isfinite(factor):
        steps.append(Step("error in this cell", (mean - 1) * 100))
        return steps
    steps.append(Step("mean of these samples", (mean - 1) * 100))
    if policy.estimator == "surface":
        steps.append(Step("the surface through all samples, here", (factor - 1) * 100))
    else:
        steps.append(Step("with what the mean leaves over, weighted again", (factor - 1) * 100))
    return steps


def _arithmetic(proposal: FuelProposal, j: int, i: int, means: _Means | None, wideband: bool) -> tuple[Step, ...]:
    steps: list[Step] = []
    correction, policy = proposal.correction, proposal.policy
    state = State(correction.state[j, i])
    if means is not None:
        steps += _measured(proposal, j, i, means, wideband)
    previous = float(proposal.estimate.factor[j, i]) if proposal.reached[j, i] else 1.0
    if not proposal.reached[j, i]:
        steps.append(Step("too little evidence to act on", 0.0))
    for stage in STAGES:
        if stage not in correction.stages:
            continue
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


def _banks(evidence: Evidence, sample: IntArray, weight: FloatArray) -> float:
    """How much more bank 2 asks for than bank 1 in some samples, as a fraction; NaN without a second bank."""
    if evidence.banks is None:
        return float("nan")
    known = np.isfinite(evidence.banks[sample])
    return float(np.average(evidence.banks[sample][known], weights=weight[known])) if known.any() else float("nan")


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
    means: _Means | None = None
    if sample.size:
        parts = evidence.parts
        every = (parts.mixture, parts.short_trim, parts.long_trim, parts.transient, parts.overlay)
        means = _Means(*(float(np.average(one[sample], weights=weight)) for one in every))
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
        error=float(proposal.estimate.factor[j, i]),
        spread=float(bins.spread[j, i]),
        standard_error=float(proposal.estimate.standard_error[j, i]),
        banks=_banks(evidence, sample, weight),
        samples=float(bins.samples[j, i]),
        dwell=float(bins.dwell[j, i]),
        visits=int(bins.visits[j, i]),
        steps=_arithmetic(proposal, j, i, means, wideband=bool((evidence.parts.mixture != 1.0).any())),
        logs=logs,
        left_out=left_out,
        dots=dots,
        moments=moments(evidence.log, evidence.time, inside),
    )
