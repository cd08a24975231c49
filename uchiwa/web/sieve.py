"""The sieve: what became of all samples, as parts of one bar."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.conditions import sentence_of, switchable, title_of
from uchiwa.core.proposals.evidence import Evidence

USED = "used"
_LABEL_FROM = 7


@dataclass(frozen=True)
class SievePart:
    """A part of the bar.

    Attributes:
        id: `used`, or the reason.
        title, sentence: its words.
        samples: how many.
        share: in whole per cent, at least 1 where there are any.
        labelled: whether the part is wide enough for its words.
        switchable: whether its rule can be switched.
    """

    id: str
    title: str
    sentence: str
    samples: int
    share: int
    labelled: bool
    switchable: bool


def sieve_parts(evidence: Evidence) -> list[SievePart]:
    """The used samples first, then the reasons by how much they take; those that take nothing come last."""
    total = max(evidence.time.size, 1)
    counts = {USED: int(evidence.sieve.used.sum())} | evidence.left_out()
    reasons = sorted((one for one in counts if one != USED), key=lambda one: -counts[one])
    parts: list[SievePart] = []
    for one in (USED, *reasons):
        percent = counts[one] * 100 / total
        share = max(1, round(percent)) if counts[one] else 0
        title = "samples used" if one == USED else title_of(one)
        sentence = "What the bins are made of." if one == USED else sentence_of(one)
        parts.append(
            SievePart(one, title, sentence, counts[one], share, percent >= _LABEL_FROM, one != USED and switchable(one))
        )
    return parts
