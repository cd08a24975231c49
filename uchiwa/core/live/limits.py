"""The sentence of limits under which a correction runs while a log is recorded, and whether it runs just now."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated

import numpy as np
from pydantic import Field

from uchiwa.core.live.growth import Growth
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.policy_file import PolicyFile
from uchiwa.core.tables.table import Table

RUNNING_RPM = 400.0
OPENING_PERCENT_A_S = 0.2
_JUST_NOW_S = 0.4
_Seconds = Annotated[float, Field(ge=0, le=3600, allow_inf_nan=False)]


class LiveLimits(PolicyFile):
    """How a live correction is held in. All keys are optional.

    Attributes:
        on: whether it runs at all.
        after_s: not before so many seconds of running, s.
        coolant: not below this coolant temperature, °C.
        opening: only while the throttle opens.
        samples, seconds: evidence asked of a cell before it is corrected.
        percent: most that a cell is changed in the session, ± %.
        load_limit: at loads above this share of the air outside an overlay never takes fuel away, %.
        strength: share of the measured error that is corrected, %.
    """

    on: bool = False
    after_s: _Seconds = 60.0
    coolant: Annotated[float, Field(ge=-40, le=130, allow_inf_nan=False)] = 80.0
    opening: bool = False
    samples: Annotated[int, Field(ge=1, le=100_000)] = 25
    seconds: _Seconds = 2.0
    percent: Annotated[float, Field(ge=0.5, le=25, allow_inf_nan=False)] = 8.0
    load_limit: Annotated[float, Field(ge=20, le=100, allow_inf_nan=False)] = 70.0
    strength: Annotated[float, Field(ge=1, le=100, allow_inf_nan=False)] = 100.0

    @property
    def conditions(self) -> tuple[str, ...]:
        """The conditions that a sample must meet, as formulas: whoever computes with them gets the same."""
        found = [f"coolant_temperature >= {self.coolant:g}"]
        if self.after_s > 0:
            found.insert(0, f"since(engine_speed > {RUNNING_RPM:g}) >= {self.after_s:g}")
        if self.opening:
            found.append(f"rate(throttle_position) > {OPENING_PERCENT_A_S:g}")
        return tuple(found)

    def policy(self, of_round: Policy) -> Policy:
        """The policy of a proposal under these limits: the round's, held in further; only cells with samples of their own."""
        return of_round.model_copy(
            update={
                "where": (*of_round.where, *self.conditions),
                "minimum_samples": float(max(of_round.minimum_samples, self.samples)),
                "minimum_dwell_s": max(of_round.minimum_dwell_s, self.seconds),
                "limit_percent": min(of_round.limit_percent, self.percent),
                "strength": min(of_round.strength, self.strength),
                "unreached": "leave",
                "smoothing": 0.0,
            }
        )


class CorrectionState(StrEnum):
    """Why a correction does not run just now, or that it does."""

    RUNNING = "running"
    OFF = "off"
    NO_DATA = "no_data"
    STANDING = "standing"
    NOT_YET = "not_yet"
    COLD = "cold"
    NOT_OPENING = "not_opening"
    OFF_TABLE = "off_table"
    NO_TARGET = "no_target"


def state_now(limits: LiveLimits, growth: Growth, target: Table | None, on_table: bool) -> tuple[CorrectionState, str]:
    """Whether the correction runs at the last row, and how far it is from running.

    Args:
        limits: the session's.
        growth: what has come so far.
        target: the calibration's λ target table, for samples without a logged target.
        on_table: whether the engine is on the table under work.
    """
    if not limits.on:
        return CorrectionState.OFF, ""
    speed = growth.latest("engine_speed")
    if speed is None:
        return CorrectionState.NO_DATA, ""
    if speed <= RUNNING_RPM:
        return CorrectionState.STANDING, ""
    running = running_seconds(growth)
    if running < limits.after_s:
        return CorrectionState.NOT_YET, f"{running:.0f} of {limits.after_s:.0f} s"
    coolant = growth.latest("coolant_temperature")
    if coolant is None or coolant < limits.coolant:
        return CorrectionState.COLD, "no reading" if coolant is None else f"{coolant:.0f} of {limits.coolant:.0f} °C"
    if limits.opening and not _opens(growth):
        return CorrectionState.NOT_OPENING, ""
    if not on_table:
        return CorrectionState.OFF_TABLE, ""
    logged = growth.latest("lambda_target")
    if (logged is not None and logged <= 0) or (logged is None and target is None and "lambda_measured" in growth):
        return CorrectionState.NO_TARGET, ""
    return CorrectionState.RUNNING, ""


def running_seconds(growth: Growth) -> float:
    """Seconds that the engine has been running at the last row, as far as it was recorded."""
    speed = growth.values("engine_speed")
    if speed is None or not growth.size:
        return 0.0
    stood = np.flatnonzero(~(speed > RUNNING_RPM) & np.isfinite(speed))
    if not stood.size:
        return growth.seconds
    began = int(stood[-1]) + 1
    return growth.seconds - float(growth.time[began]) if began < growth.size else 0.0


def _opens(growth: Growth) -> bool:
    throttle = growth.values("throttle_position")
    if throttle is None:
        return False
    first = int(np.searchsorted(growth.time, growth.seconds - _JUST_NOW_S))
    time, values = growth.time[first:], throttle[first:]
    known = np.isfinite(values)
    if known.sum() < 2:
        return False
    time, values = time[known], values[known]
    return bool((values[-1] - values[0]) / max(float(time[-1] - time[0]), 1e-3) > OPENING_PERCENT_A_S)
