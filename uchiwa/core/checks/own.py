"""Checks of a shop's own: a finding wherever a condition holds."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from typing import Annotated, Any, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import Book
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.formulas.language import parse
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.words.sentence import Sentence

MOST = 40


class OwnCheck(BaseModel):
    """A check of a shop's own.

    Attributes:
        name: what it is called.
        condition: of what is wrong, over recorded and computed channels.
        seconds: for how long it has to hold without a break.
        severity: of the finding.
        customer: the plain sentence for the driver.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(min_length=1, max_length=60)]
    condition: Annotated[str, Field(min_length=1, max_length=500)]
    seconds: Annotated[float, Field(ge=0, le=3600, allow_inf_nan=False)] = 0.0
    severity: Severity = Severity.WARNING
    customer: Annotated[str, Field(max_length=300)] = ""

    @classmethod
    def read(cls, data: Any, book: Book) -> Self:
        """A check from plain data.

        Raises:
            BadInput: a field is wrong, or the condition is none, or it names a channel that cannot be.
        """
        try:
            check = cls.model_validate(data)
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(map(str, first["loc"]))
            raise BadInput(first["msg"].lower(), where=place, advice="correct this field") from error
        formula = parse(check.condition)
        for name in formula.names:
            if name not in QUANTITIES and name not in book:
                at = check.condition.find(name)
                raise BadInput(
                    f"“{name}” is not a quantity, nor a computed channel", where=f"condition, character {at + 1}"
                )
        return check


def loads(text: str) -> tuple[OwnCheck, ...]:
    """Checks as they are stored."""
    return tuple(OwnCheck.model_validate(check) for check in json.loads(text or "[]"))


def dumps(checks: Sequence[OwnCheck]) -> str:
    """Checks as they are stored."""
    return json.dumps([check.model_dump(mode="json") for check in checks], ensure_ascii=False)


def find_own(it: ExaminedLog, checks: Sequence[OwnCheck]) -> Iterator[Finding]:
    """A finding for each check whose condition holds somewhere; one that the log has no channels for finds nothing."""
    if not checks:
        return
    workings = Workings(it.time, it.signals, Scope(it.calibration, it.car, it.book))
    for check in checks:
        try:
            holds = workings.condition(check.condition)
        except BadInput:
            continue
        spans = it.stretches(holds, shortest=check.seconds, bridge=0.0)
        if spans:
            times = "once" if len(spans) == 1 else f"{len(spans)} times"
            yield Finding(
                "own check",
                check.severity,
                check.customer or Sentence("Your tuner’s check “{name}” found something in this log.", name=check.name),
                f"{check.name}: {check.condition}, {times}, {sum(end - start for start, end in spans):.1f} s in all.",
                spans,
            )
