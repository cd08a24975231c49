"""Policy: how cautious a proposal is."""

from __future__ import annotations

from typing import Annotated, Literal, Self

from pydantic import Field, field_validator

from uchiwa.core.evidence.conditions import RULES
from uchiwa.core.proposals.chosen_cells import Cell
from uchiwa.core.proposals.policy_file import PolicyFile

Formula = Annotated[str, Field(min_length=1, max_length=400)]
Percent = Annotated[float, Field(ge=0, le=100, allow_inf_nan=False)]

_OF_EVIDENCE = {
    "source", "use_trims", "loop", "target", "settle_s", "delay", "transients", "without", "also", "where", "in_use",
}  # fmt: skip


class Policy(PolicyFile):
    """How a correction is limited. All keys are optional.

    Attributes:
        estimator: *nearest*, *weighted* or *surface*, see `estimate`.
        window_percent: with *nearest*, the share of each cell around its breakpoint in which samples count, %.
        strength: share of the measured error that is corrected, %.
        limit_percent: largest change of a cell in one round, ± %.
        dead_band_percent: smaller measured errors are ignored, ± %.
        minimum_samples, minimum_dwell_s: evidence asked of a cell before it may change.
        rich_bias_percent: how much richer than the samples ask for the table is to be; negative for leaner. It shifts
            what counts as "no change", so that there is no step at the dead band, and repeating it adds nothing.
        unreached: what happens to cells without enough evidence: *leave* them, *fade* the factor to 1 over a few
            cells, *carry* the nearest factor outwards, or follow the *surface*, by as much as it is sure of.
        lean_above_load: whether filling may lean cells above the highest load that was measured at their speed.
        smoothing: how far a changed cell is drawn to the mean of its changed neighbours, %.
        pinned: cells [i, j] (column, row) that must not change.
        only: the cells [i, j] that may change; none given means all.
        source: what the table is held against: the *fuel* error; or air by a trusted *meter*, for VE; or by trusted
            *speed_density*, for a meter's curve.
        use_trims: which fuel trims belong to the error.
        loop: whether samples of *any* state of the loop count, or only *closed* or *open* ones.
        target: where λ target is taken from: the *log*, or the calibration's own *table* where it has one.
        settle_s: time left out after a transient.
        delay: of the mixture reading: *auto*, or [d0 in s, k in g].
        transients: *auto*: what wall film and slow trims add while things change is estimated from the logs and taken
            out; or *none*.
        without: ids of condition rules that are switched off.
        also: ids of the rules that apply only when switched on.
        where: conditions of one's own that samples must meet, as formulas.
        in_use: by table id, the condition under which the controller uses that table; for several tables of a kind.
    """

    estimator: Literal["nearest", "weighted", "surface"] = "surface"
    window_percent: Annotated[float, Field(ge=10, le=100)] = 100.0
    strength: Percent = 100.0
    limit_percent: Percent = 15.0
    dead_band_percent: Percent = 0.5
    minimum_samples: Annotated[float, Field(ge=1, le=1e6)] = 10
    minimum_dwell_s: Annotated[float, Field(ge=0, le=3600)] = 0.5
    rich_bias_percent: Annotated[float, Field(ge=-10, le=10)] = 0.0
    unreached: Literal["leave", "fade", "carry", "surface"] = "fade"
    lean_above_load: bool = False
    smoothing: Percent = 0.0
    pinned: tuple[Cell, ...] = ()
    only: tuple[Cell, ...] | None = None
    source: Literal["fuel", "meter", "speed_density"] = "fuel"
    use_trims: Literal["both", "long", "none"] = "both"
    loop: Literal["any", "closed", "open"] = "any"
    target: Literal["log", "table"] = "log"
    settle_s: Annotated[float, Field(ge=0, le=10)] = 1.0
    delay: Literal["auto"] | tuple[Annotated[float, Field(ge=0, le=3)], Annotated[float, Field(ge=0, le=20)]] = "auto"
    transients: Literal["auto", "none"] = "auto"
    without: tuple[str, ...] = ()
    also: tuple[str, ...] = ()
    where: tuple[Formula, ...] = ()
    in_use: dict[str, Formula] = Field(default_factory=dict)

    @field_validator("without", "also")
    @classmethod
    def _known_rules(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        known = {rule.id for rule in RULES}
        for rule in value:
            if rule not in known:
                raise ValueError(f"“{rule}” is not a rule; the rules are {', '.join(sorted(known))}")
        return tuple(sorted(set(value)))

    def with_rule(self, rule: str, *, on: bool) -> Self:
        """The policy with a rule switched on or off."""
        usual = next(one.usual for one in RULES if one.id == rule)
        key, there = ("without", not on) if usual else ("also", on)
        now = set(getattr(self, key)) - {rule} | ({rule} if there else set())
        return self.model_copy(update={key: tuple(sorted(now))})

    def evidence_key(self) -> str:
        """The part of the policy that decides which samples count and how: equal keys have equal evidence."""
        return self.model_dump_json(include=_OF_EVIDENCE)
