"""How cautiously spark is taken out where knock is real."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from uchiwa.core.proposals.chosen_cells import Cell


class KnockPolicy(BaseModel):
    """How spark is taken out. All keys are optional.

    Attributes:
        margin: degrees below what the worst retard asks for.
        step: taken out in steps of so many degrees, rounded up.
        slope: the most a cell may stand above a neighbour afterwards, degrees per cell, unless it did before.
        unmeasured: degrees that an event is taken to have been worth where retard was not recorded.
        widen: cells to either side in speed that take part beside those between which an event lies.
        learned: whether what the controller has learned to hold back is taken out of the table, wherever it does.
        noise: numbers of clusters that a person holds to be noise, whatever the judgement.
        real: numbers of clusters that a person holds to be real.
        pinned: cells [i, j] that must not change.
        only: the cells that may; none given means all.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    margin: Annotated[float, Field(ge=0, le=10)] = 0.5
    step: Annotated[float, Field(gt=0, le=5)] = 0.25
    unmeasured: Annotated[float, Field(ge=0, le=10)] = 2.0
    slope: Annotated[float, Field(gt=0, le=20)] = 4.0
    widen: Annotated[int, Field(ge=0, le=4)] = 1
    learned: bool = True
    noise: tuple[int, ...] = ()
    real: tuple[int, ...] = ()
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
