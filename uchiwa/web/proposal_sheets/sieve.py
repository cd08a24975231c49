"""What became of all samples of a sheet, as parts of one bar."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import Sieve, sentence_of, title_of
from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.logs.signal import spans
from uchiwa.store.models import LogFile
from uchiwa.web.drawer.moments_picture import Moments
from uchiwa.web.drawer.moments_picture import title_of as moments_title

USED = "used"
_PER_LETTER = 0.85
_BRIDGE_S = 0.3


@dataclass(frozen=True)
class SievePart:
    """A part of the bar: its reason, the words for it, how many samples, and whether its name fits into it."""

    id: str
    title: str
    sentence: str
    samples: int
    share: int
    labelled: bool


def sieve_parts(sieve: Sieve, left_out: Mapping[str, int], words: Mapping[str, tuple[str, str]]) -> list[SievePart]:
    """The used samples first, then the reasons by how much they take, those that take nothing left out.

    Args:
        sieve: the verdicts.
        left_out: samples by reason.
        words: title and sentence of the reasons that are not fuel's.
    """
    total = max(int(sieve.verdict.size), 1)
    counts = {USED: int(sieve.used.sum())} | {reason: number for reason, number in left_out.items() if number}
    ordered = sorted((reason for reason in counts if reason != USED), key=lambda reason: -counts[reason])
    parts = []
    for one in (USED, *ordered):
        if one == USED:
            title, sentence = "samples used", "What the curve is fitted to."
        else:
            title, sentence = words.get(one) or (title_of(one), sentence_of(one))
        percent = counts[one] * 100 / total
        share = max(1, round(percent)) if counts[one] else 0
        parts.append(SievePart(one, title, sentence, counts[one], share, percent >= _PER_LETTER * (len(title) + 5)))
    return parts


@dataclass(frozen=True, eq=False)
class SampleTimes:
    """Which log and when each sample is from; arrays of shape (n,); and the files of the logs."""

    rows: Sequence[LogFile]
    log: IntArray
    time: FloatArray


def left_out_moments(of: SampleTimes, sieve: Sieve, reason: str, words: str, quantities: Sequence[str]) -> Moments:
    """The moments that a reason leaves out, of the log that lost most to it.

    Raises:
        BadInput: there is no such reason.
    """
    if reason != USED and reason not in sieve.reasons:
        raise BadInput("there is no such reason here", advice="reload the page")
    mine = sieve.verdict == (-1 if reason == USED else sieve.reasons.index(reason))
    number = int(np.argmax(np.bincount(of.log[mine], minlength=len(of.rows))))
    here = of.log == number
    found = spans(of.time[here], mine[here], bridge=_BRIDGE_S)
    row = of.rows[number]
    return Moments(row, found, quantities, moments_title(row, found, words))
