"""What a customer's car was like when it came and what it is like now: the figures of a report's first page."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.regions import Region
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.pulls.overlay import PullView
from uchiwa.core.pulls.strongest import mean_gain_percent, strongest
from uchiwa.core.rounds.convergence import RoundResult
from uchiwa.core.tables.table import Table
from uchiwa.services import idle, spark
from uchiwa.services.fuel import fuel_work
from uchiwa.store import jobs
from uchiwa.store.models import Job, Round


@dataclass(frozen=True, eq=False)
class ErrorMap:
    """The fuel error of a round's logs in the cells that were driven.

    Attributes:
        round: its number.
        table: of whose cells.
        percent: error, % of fuel wanting; NaN where there is too little evidence. Shape (rows, columns).
    """

    round: int
    table: Table
    percent: FloatArray


@dataclass(frozen=True, eq=False)
class PullCurve:
    """The strongest pull of a round: torque over engine speed, Nm over rpm; NaN where it was not."""

    round: int
    speed: FloatArray
    torque: FloatArray
    measured: str

    def gain_over(self, other: PullCurve) -> float | None:
        """How much stronger it is than another, mean over the speeds at which both were, %; None where that tells nothing."""
        before = np.interp(self.speed, other.speed, other.torque, left=np.nan, right=np.nan)
        return mean_gain_percent(before, self.torque)


@dataclass(frozen=True)
class Figure:
    """One figure before and now; None where it was not measured."""

    before: float | None
    now: float | None


@dataclass(frozen=True, eq=False)
class Glance:
    """The first page.

    Attributes:
        results: what each round's logs showed, oldest first.
        maps: the error of the first round and of the last; fewer where there are no logs.
        pulls: the strongest pull of the first round that has one and of the last, measured alike.
        knock: logs in which a check found knock, first round and last.
        idle: scatter of the warm idle speed, rpm, first round and last.
        watch: regions that are not right yet.
    """

    results: tuple[RoundResult, ...]
    maps: tuple[ErrorMap, ...]
    pulls: tuple[PullCurve, ...]
    knock: Figure
    idle: Figure
    watch: tuple[Region, ...]


def glance(job: Job, round_: Round) -> Glance:
    """The figures of all rounds up to one."""
    every = [one for one in jobs.rounds(job) if one.number <= round_.number]
    results = tuple(
        RoundResult(
            one.number, one.error_percent, one.cells or 0, one.cells_within or 0, one.trim_percent, one.driven_s,
            regions=jobs.regions_of(one),
        )
        for one in every
        if one.error_percent is not None
    )  # fmt: skip
    with_logs = [one for one in every if jobs.usable_logs(one)]
    ends = [with_logs[0], with_logs[-1]] if len(with_logs) > 1 else with_logs
    maps = tuple(found for end in ends if (found := _error_map(job, end)) is not None)
    knock = Figure(None, None)
    if ends:
        seen = [float(jobs.knock_seen(end)) for end in ends]
        knock = Figure(seen[0] if len(seen) > 1 else None, seen[-1])
    watch = tuple(region for region in Region if results and not results[-1].region(region).done) if results else ()
    return Glance(results, _alike(maps), _pulls(job, every), knock, _idle(job), watch)


def _error_map(job: Job, round_: Round) -> ErrorMap | None:
    try:
        proposal = fuel_work(job, round_).proposal
    except BadInput:
        return None
    enough = proposal.bins.samples >= proposal.policy.minimum_samples
    percent = np.where(enough, (proposal.estimate.factor - 1.0) * 100.0, np.nan)
    return ErrorMap(round_.number, proposal.table, percent) if np.isfinite(percent).any() else None


def _alike(maps: tuple[ErrorMap, ...]) -> tuple[ErrorMap, ...]:
    """Both, if they are of the same cells; else the last."""
    if len(maps) == 2 and maps[0].percent.shape != maps[1].percent.shape:
        return maps[1:]
    return maps


def _pulls(job: Job, every: list[Round]) -> tuple[PullCurve, ...]:
    """The strongest pull of the first round that has one, and of the last that was measured in the same way."""
    found = [curve for round_ in every if (curve := _strongest(job, round_)) is not None]
    if not found:
        return ()
    last = found[-1]
    first = next((pull_curve for pull_curve in found[:-1] if pull_curve.measured == last.measured), None)
    return (first, last) if first is not None else (last,)


def _strongest(job: Job, round_: Round) -> PullCurve | None:
    rows = [row for row in spark.pull_rows(job, round_) if not row.hidden and np.isfinite(row.pull.torque).any()]
    if not rows:
        return None
    view = PullView()
    laid = spark.overlaid(rows, view)
    torque = laid.curves.get("wheel_torque")
    if torque is None:
        return None
    best = strongest(torque)
    if best is None:
        return None
    return PullCurve(round_.number, laid.speeds, torque[best], rows[best].pull.measured)


def _idle(job: Job) -> Figure:
    """Scatter of the warm idle speed in the first round and in the last."""
    scatter = [
        band.scatter
        for quality in idle.quality_of(job)
        for band in quality.quality.bands[-1:]
        if band.low >= 60.0 and np.isfinite(band.scatter)
    ]
    if not scatter:
        return Figure(None, None)
    return Figure(scatter[0] if len(scatter) > 1 else None, scatter[-1])
