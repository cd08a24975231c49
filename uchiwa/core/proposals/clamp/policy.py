"""How cautious a clamp of an airflow signal is."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from uchiwa.core.proposals.chosen_cells import Cell
from uchiwa.core.proposals.policy_file import PolicyFile


class ClampPolicy(PolicyFile):
    """How a clamp is set. All keys are optional.

    Attributes:
        margin_percent: by how much the clamp lies above the signal that was reached before boost, %.
        quantile: of the signal at each speed that counts as reached, %.
        ceiling: of the sensor, V (or Hz): no output goes above it.
        full_load_throttle: from which throttle on it is full load, %.
        minimum_samples: that a speed needs.
        before_boost: the logs are said to be from before boost, where they hold no intake pressure to tell it by.
        respread: whether the signal's breakpoints are spread anew over what was seen.
        pinned: cells [i, j] that must not change; with any, breakpoints stay as they are.
        only: the cells that may; none given means all.
    """

    margin_percent: Annotated[float, Field(ge=0, le=30, allow_inf_nan=False)] = 5.0
    quantile: Annotated[float, Field(ge=50, le=100)] = 95.0
    ceiling: Annotated[float, Field(gt=0, le=100_000, allow_inf_nan=False)] = 5.0
    full_load_throttle: Annotated[float, Field(ge=50, le=100)] = 80.0
    minimum_samples: Annotated[float, Field(ge=1, le=1e6)] = 5
    before_boost: bool = False
    respread: bool = True
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
