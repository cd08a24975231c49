"""The sieve: what became of all samples, as parts of one bar."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import RULES, applies, sentence_of, switchable, title_of
from uchiwa.core.logs.signal import spans
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.samples import Evidence

USED = "used"
_PER_LETTER = 0.78
_BRIDGE_S = 0.25


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
        applies: whether it does now.
    """

    id: str
    title: str
    sentence: str
    samples: int
    share: int
    labelled: bool
    switchable: bool
    applies: bool


def left_out_spans(evidence: Evidence, reason: str) -> tuple[int, list[tuple[float, float]]]:
    """Which log lost most to a reason, and when; for `USED` which gave most, and when.

    Raises:
        BadInput: no such reason.
    """
    if reason != USED and reason not in evidence.sieve.reasons:
        raise BadInput("there is no such rule here", advice="reload the page")
    wanted = -1 if reason == USED else evidence.sieve.reasons.index(reason)
    mine = evidence.sieve.verdict == wanted
    log = int(np.argmax(np.bincount(evidence.log[mine], minlength=len(evidence.names))))
    here = evidence.log == log
    return log, spans(evidence.time[here], mine[here], bridge=_BRIDGE_S)


def sieve_parts(evidence: Evidence, policy: Policy) -> list[SievePart]:
    """The used samples first, then the reasons by how much they take; those that take nothing come last."""
    total = max(evidence.time.size, 1)
    counts = {USED: int(evidence.sieve.used.sum())} | evidence.left_out()
    reasons = sorted((reason for reason in counts if reason != USED), key=lambda reason: -counts[reason])
    applying = {rule.id for rule in RULES if applies(rule, policy.without, policy.also)}
    parts: list[SievePart] = []
    for one in (USED, *reasons):
        percent = counts[one] * 100 / total
        share = max(1, round(percent)) if counts[one] else 0
        title = "samples used" if one == USED else title_of(one)
        sentence = "What the bins are made of." if one == USED else sentence_of(one)
        parts.append(
            SievePart(
                one,
                title,
                sentence,
                counts[one],
                share,
                percent >= _PER_LETTER * (len(title) + 5),
                one != USED and switchable(one),
                one in applying,
            )
        )
    return parts
