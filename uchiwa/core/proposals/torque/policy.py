"""How cautiously spark is put in by torque."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BaseModel, ConfigDict, Field, model_validator

from uchiwa.core.proposals.chosen_cells import Cell

Degrees = Annotated[float, Field(ge=0, le=10, allow_inf_nan=False)]


class TorquePolicy(BaseModel):
    """How spark is put in. All keys are optional.

    Attributes:
        add: degrees that are added at once.
        add_far: the same while best torque is still `far` or more away.
        far: degrees.
        most: the shop's step: no cell moves by more in one round, but for knock.
        beyond: degrees that may go above the highest spark that was run without knock.
        knock_margin: degrees that are kept below the spark that knocked.
        worth_percent: gain per degree, % of torque, below which a degree is not worth having.
        noise, real: numbers of knock clusters that a person holds to be noise, or real.
        pinned: cells [i, j] that must not change.
        only: the cells that may; none given means all.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    add: Degrees = 1.0
    add_far: Degrees = 2.0
    far: Degrees = 2.5
    most: Degrees = 2.0
    beyond: Degrees = 0.5
    knock_margin: Degrees = 1.0
    worth_percent: Annotated[float, Field(ge=0, le=2)] = 0.1
    noise: tuple[int, ...] = ()
    real: tuple[int, ...] = ()
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None

    @model_validator(mode="before")
    @classmethod
    def _without_old_keys(cls, data: Any) -> Any:
        """Rows that were not run are never raised any more; what was kept when they could be may still say `lift`."""
        return {key: value for key, value in data.items() if key != "lift"} if isinstance(data, dict) else data
