"""How cautious a proposal of the warm-up factor is."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from uchiwa.core.proposals.chosen_cells import Cell
from uchiwa.core.proposals.policy_file import PolicyFile

Formula = Annotated[str, Field(min_length=1, max_length=400)]


class WarmUpPolicy(PolicyFile):
    """How the warm-up factor is set. All keys are optional.

    Attributes:
        strength: share of the measured change that is made, %.
        limit_percent: largest change of a value in one round, ± %.
        dead_band_percent: smaller changes are not made, ± %.
        minimum_samples, minimum_dwell_s: evidence asked of a temperature before it may change.
        warm_from: coolant from which the engine is warm and the factor 100 %, degC.
        after_start_s: how long after-start enrichment is taken to last where no flag tells.
        settle_s: left out after a transient.
        use_trims: which fuel trims belong to the error.
        target: whether the cold target is the *log*'s, or the calibration's own *table* with its cold offset.
        unreached: whether temperatures not reached follow the *trend* or are *left*.
        where: conditions of one's own that samples must meet, as formulas.
        pinned: cells [i, j] that must not change.
        only: the cells that may; none given means all.
    """

    strength: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = 100.0
    limit_percent: Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)] = 15.0
    dead_band_percent: Annotated[float, Field(ge=0, le=20, allow_inf_nan=False)] = 0.3
    minimum_samples: Annotated[float, Field(ge=1, le=1e6)] = 15
    minimum_dwell_s: Annotated[float, Field(ge=0, le=3600)] = 2.0
    warm_from: Annotated[float, Field(ge=50, le=110)] = 80.0
    after_start_s: Annotated[float, Field(ge=0, le=300)] = 30.0
    settle_s: Annotated[float, Field(ge=0, le=10)] = 1.0
    use_trims: Literal["both", "long", "none"] = "both"
    target: Literal["log", "table"] = "log"
    unreached: Literal["trend", "leave"] = "trend"
    where: tuple[Formula, ...] = ()
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
