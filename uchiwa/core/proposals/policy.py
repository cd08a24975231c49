"""Policy: how cautious a proposal is."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from uchiwa.core.conditions import RULES
from uchiwa.core.errors import BadInput

Cell = tuple[Annotated[int, Field(ge=0)], Annotated[int, Field(ge=0)]]
Percent = Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)]


class Policy(BaseModel):
    """How a correction is limited. All keys are optional.

    Attributes:
        estimator: how samples are shared among cells, see `bins`.
        strength: share of the measured error that is corrected, %.
        limit_percent: largest change of a cell in one round, ± %.
        dead_band_percent: smaller measured errors are ignored, ± %.
        minimum_samples, minimum_dwell_s: evidence asked of a cell before it may change.
        rich_bias_percent: added to the factor of every corrected cell.
        unreached: what happens to cells without enough evidence: *leave* them, *fade* the factor to 1 over four
            cells, or *carry* the nearest factors outwards.
        smoothing: how far a changed cell is drawn to the mean of its changed neighbours, %.
        pinned: cells [i, j] (column, row) that must not change.
        only: the cells [i, j] that may change; none given means all.
        use_trims: which fuel trims belong to the error.
        settle_s: time left out after a transient.
        delay: of the mixture reading: *auto*, or [d0 in s, k in g].
        without: ids of condition rules that are switched off.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    estimator: Literal["nearest", "weighted"] = "weighted"
    strength: Percent = 100.0
    limit_percent: Percent = 15.0
    dead_band_percent: Percent = 0.5
    minimum_samples: Annotated[float, Field(ge=1, le=1e6)] = 10
    minimum_dwell_s: Annotated[float, Field(ge=0, le=3600)] = 0.5
    rich_bias_percent: Annotated[float, Field(ge=-10, le=10)] = 0.0
    unreached: Literal["leave", "fade", "carry"] = "fade"
    smoothing: Percent = 0.0
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
    use_trims: Literal["both", "long", "none"] = "both"
    settle_s: Annotated[float, Field(ge=0, le=10)] = 1.0
    delay: Literal["auto"] | tuple[Annotated[float, Field(ge=0, le=3)], Annotated[float, Field(ge=0, le=20)]] = "auto"
    without: tuple[str, ...] = ()

    @field_validator("without")
    @classmethod
    def _known_rules(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        known = {rule.id for rule in RULES}
        for rule in value:
            if rule not in known:
                raise ValueError(f"“{rule}” is not a rule; the rules are {', '.join(sorted(known))}")
        return tuple(sorted(set(value)))

    def evidence_key(self) -> str:
        """The part of the policy that decides which samples count and how: equal keys have equal evidence."""
        return self.model_dump_json(include={"use_trims", "settle_s", "delay", "without"})

    @classmethod
    def read(cls, raw: Any, name: str = "policy") -> Self:
        """A policy from plain data.

        Raises:
            BadInput: says which key and why.
        """
        try:
            return cls.model_validate(raw)
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            where = ".".join(str(part) for part in first["loc"]) or "the file"
            known = first["type"] != "extra_forbidden"
            what = first["msg"].removeprefix("Value error, ") if known else "this key is not known"
            what = what[:1].lower() + what[1:]
            advice = "correct it" if known else f"the keys are {', '.join(cls.model_fields)}"
            raise BadInput(what, where=f"{name}, {where}", advice=advice) from error

    @classmethod
    def loads(cls, text: str, name: str = "policy") -> Self:
        """A policy from JSON text."""
        try:
            raw = json.loads(text)
        except ValueError as error:
            raise BadInput("this is not JSON", where=name, advice='write an object such as {"strength": 80}') from error
        return cls.read(raw, name)
