"""A finding: one thing a check found."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

Spans = tuple[tuple[float, float], ...]


class Severity(StrEnum):
    """How much a finding matters: *critical* makes the log unfit, *warning* wants a look, *note* is good to know."""

    CRITICAL = "critical"
    WARNING = "warning"
    NOTE = "note"


@dataclass(frozen=True)
class Finding:
    """What a check found.

    Attributes:
        rule: id of the check.
        severity: how much it matters.
        customer: a plain sentence for the driver: what is wrong and what to do.
        tuner: a technical sentence with numbers.
        spans: stretches of the log that show it, s.
    """

    rule: str
    severity: Severity
    customer: str
    tuner: str
    spans: Spans = ()
