"""The mixture delay sought in logs: the one that best predicts stretches that were kept aside, or none."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence import kernels
from uchiwa.core.evidence.delay import NO_DELAY, Delay
from uchiwa.core.evidence.stretches import FEWEST, NO_GAIN, Gain, StretchSums, gain, stretches_of
from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.logs.timebase import bridgeable, own_period

LONGEST_D0_S, LARGEST_K_G = 0.6, 8.0
_COARSE = (7, 5)
_FINE = 5
_REFINEMENTS = 2
_MOST_SAMPLES = 15_000
_MEAN_STEPS = 6
_MEAN_S = 0.15


@dataclass(frozen=True, eq=False)
class DelaySamples:
    """What the estimate needs of one log; arrays of shape (n,).

    Attributes:
        time: s, rising.
        reading: λ measured; NaN is a gap.
        rest: what the reading is multiplied with to give the error factor, (1 + s)(1 + l)/λt.
        airflow: g/s or None.
        cell: index of the cell of each sample, or −1 where it must not count.
        ahead: signal of the wall film (see `proposals.transients`), whose share in the error is not counted, or None.
    """

    time: FloatArray
    reading: FloatArray
    rest: FloatArray
    airflow: FloatArray | None
    cell: IntArray
    ahead: FloatArray | None = None


@dataclass(frozen=True)
class FoundDelay:
    """A delay and what it gains on stretches kept aside; without a sure gain the delay is none."""

    delay: Delay
    gain: Gain


@dataclass(frozen=True, eq=False)
class _Thinned:
    """The samples of all logs that the search looks at, at most some twenty thousand.

    Readings are means over a width of six sample periods, for all candidates: interpolating halfway between two samples
    halves white noise, which would draw the delay to half samples; such a mean has the same noise (to 1 %) wherever it is
    taken.
    """

    logs: list[_Log]
    stretches: int
    cells: int

    def sums(self, delay: Delay) -> StretchSums:
        """Within-cell sums of the logarithm of the error under a delay."""
        data = np.zeros((self.stretches, self.cells, 6))
        for log in self.logs:
            kernels.delayed_sums(*log.samples, *log.reading, delay.d0, delay.k, data)
        return StretchSums(data)


@dataclass(frozen=True, eq=False)
class _Log:
    """What `kernels.delayed_sums` wants of one log: its samples, and its reading with width and longest gap."""

    samples: tuple[FloatArray, FloatArray, FloatArray, FloatArray, IntArray, IntArray]
    reading: tuple[FloatArray, FloatArray, FloatArray, FloatArray, float, float]


def _thinned(parts: list[DelaySamples], cells: int) -> _Thinned:
    used = sum(int((part.cell >= 0).sum()) for part in parts)
    step = max(1, used // _MOST_SAMPLES)
    logs, first = [], 0
    for part in parts:
        finite = np.isfinite(part.reading)
        time, read = part.time[finite], part.reading[finite]
        period = own_period(time)
        apart = np.diff(time)
        with np.errstate(divide="ignore", invalid="ignore"):
            slope = np.diff(read) / apart
        integral = np.concatenate(([0.0], np.cumsum(apart * (read[1:] + read[:-1]) / 2)))
        at = np.flatnonzero(part.cell >= 0)[::step]
        number = stretches_of(part.time, first)
        first = int(number[-1]) + 1 if number.size else first
        flow = np.full(at.size, np.inf) if part.airflow is None else part.airflow[at]
        ahead = np.zeros(at.size) if part.ahead is None else part.ahead[at]
        logs.append(
            _Log(
                (part.time[at], flow, part.rest[at], ahead, part.cell[at], number[at]),
                (time, read, slope, integral, max(_MEAN_STEPS * period, _MEAN_S), bridgeable(period)),
            )
        )
    return _Thinned(logs, first, cells)


def _score(sums: StretchSums) -> FloatArray:
    """Squared error of each stretch about the cells' means of the others, less what the wall film explains of it."""
    a, b, c = sums.left_out()
    whole = float(c.sum())
    if whole <= 0:
        return a
    slope = (float(b.sum()) - b) / np.maximum(whole - c, 1e-300)
    return a - 2 * slope * b + slope**2 * c


def estimate_delay(parts: list[DelaySamples], cells: int) -> FoundDelay:
    """The delay d0 + k/airflow under which the error is most consistent within cells: a coarse grid, then finer ones.

    d0 is sought in 0 … 0.6 s and k in 0 … 8 g. It is used only if, chosen without a stretch of the log, it predicts that
    stretch better than no delay does, by more than chance explains.
    """
    usable = [part for part in parts if (part.cell >= 0).any() and np.isfinite(part.reading).sum() > 2]
    if not usable:
        return FoundDelay(NO_DELAY, NO_GAIN)
    thinned = _thinned(usable, cells)
    flow_known = any(part.airflow is not None for part in usable)
    scores: dict[Delay, FloatArray] = {NO_DELAY: _score(thinned.sums(NO_DELAY))}
    centre, width = (LONGEST_D0_S / 2, LARGEST_K_G / 2), (LONGEST_D0_S / 2, LARGEST_K_G / 2)
    for number in range(_REFINEMENTS + 1):
        count = _COARSE if number == 0 else (_FINE, _FINE)
        d0s = np.linspace(max(0.0, centre[0] - width[0]), centre[0] + width[0], count[0])
        ks = np.linspace(max(0.0, centre[1] - width[1]), centre[1] + width[1], count[1]) if flow_known else np.zeros(1)
        for d0 in d0s.tolist():
            for k in ks.tolist():
                tried = Delay(round(d0, 4), round(k, 4))
                if tried not in scores:
                    scores[tried] = _score(thinned.sums(tried))
        best = min(scores, key=lambda delay: float(scores[delay].sum()))
        step = (width[0] * 2 / (count[0] - 1), width[1] * 2 / (count[1] - 1))
        centre, width = (best.d0, best.k), (step[0] * 0.8, step[1] * 0.8)
    every = np.array(list(scores.values()))
    others = every.sum(axis=1)[:, None] - every
    # Each stretch is predicted with the delay that the other stretches choose.
    chosen = np.argmin(others, axis=0)
    predicted = every[chosen, np.arange(every.shape[1])]
    seen = every[0] > 0
    told = gain(every[0][seen], predicted[seen])
    if int(seen.sum()) < FEWEST or not told.sure:
        return FoundDelay(NO_DELAY, told)
    return FoundDelay(best, told)
