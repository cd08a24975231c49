"""A proposal of the warm-up factor over coolant."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.falling_fit import FallingFit, SampleWeights, fit_falling
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.falling_curve import CurvePolicy, MovedCurve, enough, move_curve
from uchiwa.core.proposals.warm_up.colder import WarmUpCurve, carried_on
from uchiwa.core.proposals.warm_up.evidence import AFTER_START, ROLE, WARM, WarmUpEvidence, gather_warming
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration, Table

_APART_PERCENT = 0.6
"""Standard deviation of the factor needed from one day to another, %: fuel, weather, how long the car has stood."""


@dataclass(frozen=True, eq=False)
class WarmUpProposal:
    """The warm-up factor as proposed; arrays of shape (1, n).

    Attributes:
        table: as it is.
        evidence: it rests on.
        fit: of the factor needed.
        moved: what became of the curve.
        after: proposed values.
        state: a `State` each.
        policy: that it was made with.
        notes: what to know of it, as sentences.
    """

    table: Table
    evidence: WarmUpEvidence
    fit: FallingFit
    moved: MovedCurve
    after: FloatArray
    state: NDArray[np.object_]
    policy: WarmUpPolicy
    notes: tuple[str, ...]

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.table.with_grid(self.after)


def warm_up_table(calibration: Calibration, table_id: str) -> Table:
    """A curve of the warm-up factor.

    Raises:
        BadInput: there is none of this id, or it is not a curve over coolant.
    """
    table = next((one for one in calibration.tables if one.id == table_id), None)
    if table is None or table.role != ROLE:
        known = ", ".join(one.id for one in calibration.by_role(ROLE)) or "none"
        raise BadInput(f"“{table_id}” is not a warm-up factor", advice=f"those of this calibration are: {known}")
    if table.x.quantity != "coolant_temperature" or table.y is not None:
        raise BadInput(
            "a warm-up factor is a curve over coolant temperature",
            where=table.title,
            advice="choose a row of it as a curve of its own, or give it another role",
        )
    return table


def warm_up_proposal(
    logs: Sequence[Log], calibration: Calibration, table_id: str, policy: WarmUpPolicy, *, book: Book = SHIPPED
) -> WarmUpProposal:
    """The factor that the engine needs while it warms.

    Raises:
        BadInput: there is no such table, or the logs lack a channel, or none of their samples tells of warming.
    """
    table = warm_up_table(calibration, table_id)
    return proposal_from(gather_warming(logs, calibration, table, policy, book), table, policy)


def proposal_from(evidence: WarmUpEvidence, table: Table, policy: WarmUpPolicy) -> WarmUpProposal:
    """The proposal that evidence leads to: 100 % once warm, never rising, colder than seen on the rich side.

    Raises:
        BadInput: no sample tells of warming.
    """
    use = evidence.sieve.used
    if not use.any():
        raise BadInput(_why_none(evidence), advice="record a start from cold, from before cranking until it is warm")
    before = table.grid[0]
    weights = SampleWeights(np.ones(int(use.sum())), evidence.duration[use], evidence.stretch[use], evidence.log[use])
    unit = float(convert(np.array(1.0), "%", table.unit))
    apart = np.full(before.shape, _APART_PERCENT * unit)
    fit = fit_falling(table.x, evidence.coolant[use], evidence.factor[use], weights, before, apart)
    pinned = cells_mask(policy.pinned, table.shape, default=False)
    open_ = cells_mask(policy.only, table.shape, default=True) & ~pinned
    hundred = 100.0 * unit
    fixed = np.where(warm_points(table, policy), hundred, np.nan)
    told = CurvePolicy(
        policy.strength / 100.0, np.abs(before) * policy.limit_percent / 100.0,
        np.full(before.shape, policy.dead_band_percent * unit), policy.minimum_samples, policy.minimum_dwell_s,
        open_[0], pinned[0], policy.unreached == "trend", False, fixed, hundred,
    )  # fmt: skip
    told = replace(told, colder=_colder(table, fit, enough(fit, told) & ~np.isfinite(fixed), policy))
    moved = move_curve(table, before, fit, told)
    notes = list(evidence.notes)
    warm = before[np.isfinite(fixed)] / unit
    if warm.size and float(np.abs(warm - 100.0).max()) > 0.05:
        off = float(warm[np.argmax(np.abs(warm - 100.0))])
        notes.append(
            f"warm, the factor in the car is {off:.1f} %: at 100 % the fuel table has to make up for it, so look at Fuel too"
        )
    if moved.rising:
        notes.append("the factor still rises with temperature, where pins or its own samples hold it")
    return WarmUpProposal(table, evidence, fit, moved, moved.after[None, :], moved.state[None, :], policy, tuple(notes))


def _colder(table: Table, fit: FallingFit, reached: BoolArray, policy: WarmUpPolicy) -> FloatArray | None:
    """What values colder than all that were reached are to be at least, in the table's unit; shape (n,)."""
    percent = float(convert(np.array(1.0), "%", table.unit))
    celsius = convert(table.x.breakpoints, table.x.unit, "degC")
    excess = fit.value / percent - 100.0
    told = WarmUpCurve(celsius[reached], excess[reached], fit.half_width[reached] / percent)
    least = carried_on(celsius, told, policy.warm_from)
    return None if least is None else (100.0 + least) * percent


def warm_points(table: Table, policy: WarmUpPolicy) -> NDArray[np.bool_]:
    """The breakpoints at which the engine is warm: those from there on, and the last, which holds beyond the axis."""
    celsius = convert(table.x.breakpoints, table.x.unit, "degC")
    warm: NDArray[np.bool_] = celsius >= policy.warm_from
    warm[-1] = True
    return warm


def _why_none(evidence: WarmUpEvidence) -> str:
    left = {reason: number for reason, number in evidence.left_out().items() if number}
    most = max(left, key=lambda reason: left[reason]) if left else ""
    words = {
        WARM: "the logs begin with a warm engine",
        AFTER_START: "after-start enrichment never ended while the engine was cold",
        "not_running": "the engine never ran by itself: it stalled after its start, or was only cranked",
        "cold_sensor": "the mixture sensor never came alive",
        "rail": "the mixture sensor was at its rail throughout",
        "outside": "the coolant was never within the table's temperatures",
    }
    return "no sample tells what the engine needs while it warms: " + words.get(most, "a channel has no reading")
