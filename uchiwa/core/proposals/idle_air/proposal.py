"""A proposal of idle airflow over coolant, in neutral and in gear."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.falling_fit import FallingFit, SampleWeights, fit_falling
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.idle.moments import Gear
from uchiwa.core.idle.switched_load import SwitchedLoad, switched_load
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.chosen_cells import cells_mask
from uchiwa.core.proposals.falling_curve import (
    CurvePolicy,
    MovedCurve,
    State,
    move_curve,
    rounded_changes,
    without_rises,
)
from uchiwa.core.proposals.idle_air.evidence import ROLE, IdleAirEvidence, gather_idle
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration, Table

_APART = {"desired": 0.02, "meter": 0.05, "speed_density": 0.07}
"""Standard deviation, as a share, of the air needed from one day to another; and of what another source than the desired
airflow adds to that, for leaks and the actuator."""


@dataclass(frozen=True, eq=False)
class GearCurve:
    """One gear's row of the table.

    Attributes:
        gear: which.
        row: index in the table.
        fit: of its own samples.
        moved: what became of it.
        offset: that the row in gear was filled with, above neutral, in the table's unit; NaN where it was not.
        load: that was switched on and off while it was recorded; None if none was found.
    """

    gear: Gear
    row: int
    fit: FallingFit
    moved: MovedCurve
    offset: FloatArray
    load: SwitchedLoad | None = None


@dataclass(frozen=True, eq=False)
class IdleAirProposal:
    """Idle airflow as proposed; arrays of shape (rows, columns).

    Attributes:
        table: as it is.
        evidence: it rests on.
        curves: by row.
        after: proposed values.
        state: a `State` each.
        policy: that it was made with.
        notes: what to know of it, as sentences.
    """

    table: Table
    evidence: IdleAirEvidence
    curves: tuple[GearCurve, ...]
    after: FloatArray
    state: NDArray[np.object_]
    policy: IdleAirPolicy
    notes: tuple[str, ...]

    @property
    def corrected(self) -> Table:
        """The table as proposed."""
        return self.table.with_grid(self.after)

    def curve(self, row: int) -> GearCurve:
        """The curve of a row."""
        return next(curve for curve in self.curves if curve.row == row)


def idle_air_table(calibration: Calibration, table_id: str) -> Table:
    """A table of idle airflow.

    Raises:
        BadInput: there is none of this id, or it is not laid over coolant (and gear).
    """
    table = next((one for one in calibration.tables if one.id == table_id), None)
    if table is None or table.role != ROLE:
        known = ", ".join(one.id for one in calibration.by_role(ROLE)) or "none"
        raise BadInput(f"“{table_id}” is not a table of idle airflow", advice=f"those of this calibration are: {known}")
    if table.x.quantity != "coolant_temperature" or (table.y is not None and table.y.quantity != "in_gear"):
        raise BadInput(
            "idle airflow is laid over coolant temperature, with a row for neutral and one for in gear",
            where=table.title,
            advice="turn the table, or give it another role",
        )
    return table


def idle_air_proposal(
    logs: Sequence[Log], scope: Scope, table_id: str, policy: IdleAirPolicy, *, automatic: bool | None = None
) -> IdleAirProposal:
    """The air that the engine needs at idle, by coolant temperature and gear.

    Args:
        logs: recognised.
        scope: the calibration that the car ran, which there must be, and the computed channels that conditions may name.
        table_id: of a table of the role `idle_airflow`.
        policy: how cautious to be.
        automatic: whether the gearbox pulls in gear while standing; None if nobody said.

    Raises:
        BadInput: there is no such table, or the logs lack a channel, or none of their samples is an idle moment.
    """
    calibration = scope.calibration
    if calibration is None:
        raise TypeError("idle air needs the calibration that the car ran")
    table = idle_air_table(calibration, table_id)
    evidence = gather_idle(logs, table, policy, scope, automatic=automatic)
    return proposal_from(evidence, table, policy, rows_of(calibration, table, policy))


def rows_of(calibration: Calibration, table: Table, policy: IdleAirPolicy) -> tuple[Gear, ...]:
    """The gear of each row of a table: by its axis, else the first curve of the role is neutral's, the second in gear."""
    if table.y is not None:
        return tuple(Gear.IN_GEAR if point > 0.5 else Gear.NEUTRAL for point in table.y.breakpoints)
    if policy.row != "auto":
        return (Gear.IN_GEAR if policy.row == "in_gear" else Gear.NEUTRAL,)
    curves = [one.id for one in calibration.by_role(ROLE) if one.y is None]
    return (Gear.IN_GEAR if curves.index(table.id) == 1 else Gear.NEUTRAL,)


def proposal_from(
    evidence: IdleAirEvidence, table: Table, policy: IdleAirPolicy, gears: Sequence[Gear]
) -> IdleAirProposal:
    """The proposal that evidence leads to.

    Neutral first; in gear its own samples where there are enough, elsewhere neutral plus what was measured between the
    two, or the policy's offset until something was.

    Raises:
        BadInput: no sample is an idle moment of these gears.
    """
    if not any(evidence.of(gear).any() for gear in gears):
        raise BadInput(_why_none(evidence), advice=_what_to_do(evidence))
    pinned = cells_mask(policy.pinned, table.shape, default=False)
    open_ = cells_mask(policy.only, table.shape, default=True) & ~pinned
    after, state = table.grid.astype(np.float64).copy(), np.full(table.shape, State.THIN, dtype=object)
    curves: list[GearCurve] = []
    notes = list(evidence.notes)
    for row, gear in sorted(enumerate(gears), key=lambda one: one[1] is Gear.IN_GEAR):
        before = table.grid[row]
        fit, load = _fit(evidence, table, gear, before)
        if load is not None:
            notes.append(_told_of(load, gear, table.unit))
        moved = move_curve(table, before, fit, _curve_policy(table, policy, open_[row], pinned[row]))
        offset = np.full(before.shape, np.nan)
        neutral = next((curve for curve in curves if curve.gear is Gear.NEUTRAL), None)
        if gear is Gear.IN_GEAR and neutral is not None and policy.strength > 0:
            moved, offset, told = _above_neutral(
                table, policy, neutral, GearCurve(gear, row, fit, moved, offset), open_[row]
            )
            notes += told
        after[row], state[row] = moved.after, moved.state
        if moved.rising:
            notes.append(f"{gear.value}: the curve still rises with temperature, where pins or its own samples hold it")
        curves.append(GearCurve(gear, row, fit, moved, offset, load))
    return IdleAirProposal(
        table, evidence, tuple(sorted(curves, key=lambda curve: curve.row)), after, state, policy, tuple(notes)
    )


def _told_of(load: SwitchedLoad, gear: Gear, unit: str) -> str:
    return (
        f"{gear.value}: something that was not recorded (a fan, lights, the alternator) takes {load.air:.2f} {unit} and was "
        f"switched {load.switched} times, on for {load.share * 100:.0f} % of the time; the curve is for its mean, "
        "whenever it happened to be on"
    )


def _why_none(evidence: IdleAirEvidence) -> str:
    left = {reason: number for reason, number in evidence.left_out().items() if number}
    most = max(left, key=lambda reason: left[reason]) if left else ""
    words = {
        "not_running": "the engine never ran by itself: it stalled after its start, or was only cranked",
        "throttle": "the pedal was never at rest",
        "moving": "the car never stood",
        "after_start": "nothing was recorded after after-start enrichment had ended",
        "gear_unsaid": "the gearbox is automatic, and the gear was never recorded",
        "settling": "the engine never idled for long enough to settle",
        "off_target": "the speed never stood on its target",
        "outside": "the coolant was never within the table's temperatures",
    }
    return "no sample tells what the engine needs at idle: " + words.get(most, "a channel has no reading")


def _what_to_do(evidence: IdleAirEvidence) -> str:
    if evidence.left_out().get("gear_unsaid"):
        return "record in gear or not, or say that the gearbox is not automatic"
    return "record an idle from cold to warm, feet off, standing"


def _fit(
    evidence: IdleAirEvidence, table: Table, gear: Gear, before: FloatArray
) -> tuple[FallingFit, SwitchedLoad | None]:
    """The curve through a gear's samples, and the load that was switched on and off meanwhile, taken at its mean.

    The direction of a value's own samples stays that of the samples as they were recorded.
    """
    use = evidence.of(gear)
    coolant, air = evidence.coolant[use], evidence.air[use]
    weights = SampleWeights(evidence.weight[use], evidence.duration[use], evidence.stretch[use], evidence.log[use])
    apart = _APART[evidence.source] * np.abs(before)
    fit = fit_falling(table.x, coolant, air, weights, before, apart)
    load = switched_load(table.x, coolant, air, fit.value, weights, evidence.time[use])
    if load is None:
        return fit, None
    even = fit_falling(table.x, coolant, air - load.taken, weights, before, np.hypot(apart, load.error))
    return replace(even, mean=fit.mean), load


def _curve_policy(table: Table, policy: IdleAirPolicy, open_: BoolArray, pinned: BoolArray) -> CurvePolicy:
    def in_unit(value: float) -> FloatArray:
        return np.full(table.shape[1], float(convert(np.array(value), "g/s", table.unit)))

    return CurvePolicy(
        policy.strength / 100.0, in_unit(policy.limit_gs), in_unit(policy.dead_band_gs), policy.minimum_samples,
        policy.minimum_dwell_s, open_, pinned, policy.unreached == "trend", True, np.full(table.shape[1], np.nan),
    )  # fmt: skip


def _above_neutral(
    table: Table, policy: IdleAirPolicy, neutral: GearCurve, in_gear: GearCurve, open_: BoolArray
) -> tuple[MovedCurve, FloatArray, list[str]]:
    """The row in gear at temperatures where it was not measured: neutral plus what lies between the two."""
    fit, moved, row = in_gear.fit, in_gear.moved, in_gear.row
    both = moved.reached & neutral.moved.reached
    before = table.grid[row]
    points = table.x.breakpoints
    if policy.unmeasured_gear == "leave" or not neutral.moved.reached.any():
        return moved, np.full(before.shape, np.nan), []
    if policy.unmeasured_gear == "shift" and not both.any():
        offset, told = before - table.grid[neutral.row], "in gear was never measured: it moves with neutral"
    elif both.sum() >= 1:
        apart = fit.value[both] - neutral.fit.value[both]
        offset = np.maximum(np.interp(points, points[both], apart), 0.0)
        told = f"in gear was measured {apart.mean():.1f} {table.unit} above neutral; temperatures without samples follow that"
    else:
        usual = float(convert(np.array(policy.offset_gs), "g/s", table.unit))
        offset = np.full(before.shape, usual)
        told = f"in gear was never measured: it is set {usual:.1f} {table.unit} above neutral until it is"
    fill = ~moved.reached & open_
    wanted = neutral.moved.after + offset
    limit = float(convert(np.array(policy.limit_gs), "g/s", table.unit))
    own = np.sign(np.nan_to_num(fit.mean))
    change = np.clip(wanted - before, -limit, limit)
    change = np.where(change * own < 0, 0.0, change)
    change = np.where(fill, change, moved.after - before)
    kept = without_rises(before, change, firm=~fill, fast=np.zeros(fill.shape, dtype=np.bool_))
    after = np.where(fill, rounded_changes(table, before, kept, ~fill), moved.after)
    state = moved.state.copy()
    state[fill & (after != before)] = State.FILLED
    state[fill & (after == before)] = State.THIN
    rises = bool((np.diff(after) > 0).any())
    return (
        MovedCurve(after, state, moved.reached, moved.stages, rises),
        np.where(fill, offset, np.nan),
        [told] if fill.any() else [],
    )
