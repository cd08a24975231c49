"""How far above the noise of safe runs a knock limit is set."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from uchiwa.core.proposals.chosen_cells import Cell


class ThresholdPolicy(BaseModel):
    """How a knock limit is set. All keys are optional.

    Attributes:
        quantile: share of the safe samples in a cell that lie below the base of the limit, %.
        margin: times that base.
        least: samples that a cell needs.
        pinned: cells [i, j] that must not change.
        only: the cells that may; none given means all.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    quantile: Annotated[float, Field(ge=50, le=100)] = 99.0
    margin: Annotated[float, Field(ge=1, le=5)] = 1.3
    least: Annotated[int, Field(ge=5, le=100_000)] = 40
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
