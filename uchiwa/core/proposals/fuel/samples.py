"""The samples of fuel evidence: each with its place, its error, and what that is made of."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.conditions import (
    Sieve,
)
from uchiwa.core.evidence.delay import Delay
from uchiwa.core.evidence.stretches import Gain
from uchiwa.core.evidence.transients import (
    Transient,
)
from uchiwa.core.logs.log import FloatArray, IntArray


@dataclass(frozen=True, eq=False)
class FuelParts:
    """The factors of the fuel error at each sample; shape (n,).

    Attributes:
        mixture: λm/λt; without a sensor 1 throughout.
        short_trim, long_trim: as fractions.
        transient: what rids the error of wall film and slow trims; 1 where nothing changes.
        overlay: what a live session laid over the table while it was recorded, as a fraction; 0 without one.
    """

    mixture: FloatArray
    short_trim: FloatArray
    long_trim: FloatArray
    transient: FloatArray
    overlay: FloatArray

    @property
    def error(self) -> FloatArray:
        """e = A_true / A_model = (λm/λt)·(1 + s)·(1 + l)·(1 + o), for trims s and l and an overlay o as fractions, less the transients.

        The controller injects F = A_model·(1 + o)(1 + s)(1 + l)/(λt·AFRst); what the sensor sees is A_true = λm·AFRst·F.
        """
        trims = (1 + self.short_trim) * (1 + self.long_trim)
        return self.mixture * trims * (1 + self.overlay) * self.transient


ESTIMATED_BY = 2
"""Grows whenever delay and transients are estimated otherwise: what was kept before then is not what would be found now."""


@dataclass(frozen=True)
class Estimated:
    """What gathering evidence estimates: delay, its gain, and transients, as `Evidence` has them."""

    delay: Delay
    delay_gain: Gain
    transients: tuple[Transient, ...]


@dataclass(frozen=True, eq=False)
class Evidence:
    """Samples of all logs, one after the other; arrays of shape (n,).

    Attributes:
        names: of the logs.
        log: index of the log each sample is from.
        time: seconds in its log.
        x, y: where it lies, in the units of the table's axes; `y` is None for a curve.
        parts: the factors of the error.
        error: error factor e; NaN where it cannot be computed.
        duration: seconds the sample stands for.
        sieve: which samples are used, and why the others are not.
        delay: the mixture delay that was taken.
        delay_gain: by how much that delay, chosen without a stretch of the logs, predicts that stretch better.
        transients: what was found to change the error while conditions change, and was taken out of it.
        banks: how much more fuel bank 2 asks for than bank 1, as a fraction; NaN or None without a second bank.
        unsure: error of each sample that no number of them averages away, as a fraction: of trims that are still
            following, at least what they are behind on the whole; shape (n,), None without any.
        ahead: how far the fuel demand is ahead of its past, by the slowest film; None where that is not known.
        grain: the steps in which the error is read, as a fraction; 0 if they are too fine to tell.
        region: the `Region` of each sample.
        notes: what was left out altogether, as sentences.
    """

    names: tuple[str, ...]
    log: IntArray
    time: FloatArray
    x: FloatArray
    y: FloatArray | None
    parts: FuelParts
    error: FloatArray
    duration: FloatArray
    sieve: Sieve
    delay: Delay
    delay_gain: Gain
    region: IntArray
    transients: tuple[Transient, ...] = ()
    banks: FloatArray | None = None
    unsure: FloatArray | None = None
    grain: float = 0.0
    ahead: FloatArray | None = None
    notes: tuple[str, ...] = ()

    @property
    def estimated(self) -> Estimated:
        """What was estimated on the way."""
        return Estimated(self.delay, self.delay_gain, self.transients)

    @property
    def breaks(self) -> IntArray:
        """A number that changes wherever used samples are not neighbours in time."""
        skipped = np.cumsum(~self.sieve.used)
        return (skipped + self.log * (self.sieve.verdict.size + 1)).astype(np.int64)

    def left_out(self) -> dict[str, int]:
        """Samples left out, by reason; reasons that left none out are 0."""
        counts = np.bincount(self.sieve.verdict + 1, minlength=len(self.sieve.reasons) + 1)[1:]
        return {reason: int(count) for reason, count in zip(self.sieve.reasons, counts, strict=True)}
