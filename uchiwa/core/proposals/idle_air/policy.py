"""How cautious a proposal of idle airflow is."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from uchiwa.core.proposals.chosen_cells import Cell
from uchiwa.core.proposals.policy_file import PolicyFile

Formula = Annotated[str, Field(min_length=1, max_length=400)]


class IdleAirPolicy(PolicyFile):
    """How idle airflow is set. All keys are optional.

    Attributes:
        source: where the airflow that the engine needs is taken from: what the controller *desired*, the *meter*, or
            *speed_density*; *auto* takes the first of these that the logs hold.
        strength: share of the measured change that is made, %.
        limit_gs: largest change of a cell in one round, ± g/s.
        dead_band_gs: smaller changes are not made, ± g/s.
        minimum_samples, minimum_dwell_s: evidence asked of a temperature before it may change.
        within_rpm: how far the speed may stand from its target.
        settle_s: left out after a change of gear, throttle or speed.
        after_start_s: how long after-start air is taken to last where no flag tells.
        unmeasured_gear: what the row in gear does at temperatures where it was not measured: *offset* above neutral,
            *shift* with neutral, or *leave*.
        offset_gs: that offset, until measured, g/s.
        row: of a calibration with two curves, which this one is; *auto* takes the first for neutral.
        unreached: whether temperatures not reached follow the *trend* or are *left*.
        where: conditions of one's own that samples must meet, as formulas.
        pinned: cells [i, j] that must not change.
        only: the cells that may; none given means all.
    """

    source: Literal["auto", "desired", "meter", "speed_density"] = "auto"
    strength: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = 100.0
    limit_gs: Annotated[float, Field(ge=0, le=50, allow_inf_nan=False)] = 4.0
    dead_band_gs: Annotated[float, Field(ge=0, le=5, allow_inf_nan=False)] = 0.05
    minimum_samples: Annotated[float, Field(ge=1, le=1e6)] = 20
    minimum_dwell_s: Annotated[float, Field(ge=0, le=3600)] = 3.0
    within_rpm: Annotated[float, Field(ge=10, le=1000)] = 100.0
    settle_s: Annotated[float, Field(ge=0, le=30)] = 3.0
    after_start_s: Annotated[float, Field(ge=0, le=300)] = 20.0
    unmeasured_gear: Literal["offset", "shift", "leave"] = "offset"
    offset_gs: Annotated[float, Field(ge=0, le=20)] = 2.0
    row: Literal["auto", "neutral", "in_gear"] = "auto"
    unreached: Literal["trend", "leave"] = "trend"
    where: tuple[Formula, ...] = ()
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
