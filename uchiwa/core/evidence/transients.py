"""What changing conditions add to the fuel error: wall film, and trims that follow slowly."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence import kernels
from uchiwa.core.evidence.stretches import Slope, StretchSums, slope_of
from uchiwa.core.logs.log import FloatArray, IntArray
from uchiwa.core.logs.signal import quiet, rate, smooth

FILM_TIMES_S = (0.1, 0.2, 0.4, 0.8)
"""Times in which a wall film may evaporate that are tried; engines differ by more than tenfold from cold to hot."""
TRIM_WINDOWS_S = (1.0, 2.5, 5.0)
"""Windows over which the rate of the trims is tried: a wide one stands coarse steps, a narrow one quick loops."""
STILL_MOVING = 0.004
"""Rate of the trims, 1/s, from which they are not where they are going, whatever the loop."""
FAR = 0.01
"""How far trims may be from where they are going, as a fraction, for their rate to make up for it."""
_JUMP = 0.004
_QUICKEST = 0.05
_LEAST_AIRFLOW = 0.3
_NOISE = 0.002
_MOST = 0.25
_FEWEST = 200


@dataclass(frozen=True)
class Transient:
    """An effect estimated from the logs.

    Attributes:
        words: what it is.
        slope: error per unit of its signal.
        slope_error: standard error of that.
        largest_percent: how much it changes the error at most, %, in 95 of 100 samples.
        time_s: the time it rests on, s.
    """

    words: str
    slope: float
    slope_error: float
    largest_percent: float
    time_s: float = 0.0


UNKNOWN_FILM = 0.008
"""How strong an effect of conditions that change may be that was not found: error per unit of the slowest film's signal.

On engines drawn at random what is left of it, found or not, is between a half of this and twice as much.
"""
WALL_FILM = "wall film"
SLOW_TRIMS = "trims still following"
Signals = Mapping[str, Sequence[tuple[float, FloatArray]]]
"""By what they are called, the candidates of a signal: the time each rests on, and its samples, shape (n,)."""


def film_signals(time: FloatArray, airflow: FloatArray, target: FloatArray) -> list[tuple[float, FloatArray]]:
    """Candidates of the film's signal: how far the fuel demand is ahead of its own recent past: ln F − lag(ln F), F being airflow over λ target.

    While the demand rises part of the fuel stays on the walls, and the mixture runs lean by about that in proportion;
    falling, rich. For small changes this is what Aquino's X-τ film (SAE 810494) leaves uncompensated. The demand is
    smoothed as far as its noise asks for: a sample that reads a high pressure by chance would lie in a higher cell and look
    ahead as well.

    Args:
        time: s, rising; shape (n,).
        airflow: g/s.
        target: λ target.

    Returns:
        τ in s, one of `FILM_TIMES_S`, and the signal under it; shape (n,).
    """
    with np.errstate(invalid="ignore", divide="ignore"):
        demand = quiet(time, np.log(np.maximum(airflow, _LEAST_AIRFLOW) / target), _NOISE)
    at, demand = kernels.read_only(time), np.ascontiguousarray(demand)
    return [(seconds, np.nan_to_num(demand - kernels.lagged(at, demand, seconds))) for seconds in FILM_TIMES_S]


def trim_signal(time: FloatArray, short: FloatArray, long: FloatArray, window: float) -> FloatArray:
    """Rate of the trims, 1/s: a loop that is still correcting has not yet arrived at what it will hold.

    With trims that follow the true error with a time τ, the error is trims + τ · rate; the trims are smoothed over the
    window first, for they come in steps. Where the long-term trim jumps, as from one of its zones to the next, nothing was
    corrected: such jumps do not count.

    Args:
        time: s, rising; shape (n,).
        short, long: trims as fractions.
        window: s.
    """
    steps = np.diff(long, prepend=long[:1])
    learned = np.cumsum(np.where(np.abs(steps) > _JUMP, 0.0, np.nan_to_num(steps)))
    pace = np.nan_to_num(rate(time, smooth(time, short + learned, window), window))
    return np.clip(pace, -_QUICKEST, _QUICKEST)


def trim_signals(time: FloatArray, short: FloatArray, long: FloatArray) -> list[tuple[float, FloatArray]]:
    """Candidates of the trims' signal."""
    return [(window, -trim_signal(time, short, long, window)) for window in TRIM_WINDOWS_S]


def estimate_transients(
    cell: IntArray, stretch: IntArray, error: FloatArray, signals: Signals
) -> tuple[Transient, ...]:
    """How strongly each signal shows in the error within cells; of its candidates the one that predicts best.

    An effect is kept only if, estimated without a stretch of the logs, it predicts that stretch better than without it, by
    more than chance explains, its single samples and, what a correction rests on, the means of its visits to cells; and if
    it acts alike when conditions rise and when they fall.

    Args:
        cell: index of the cell of each used sample; shape (n,).
        stretch: number of its stretch, see `stretches_of`.
        error: error factors.
        signals: candidates by what they are called.
    """
    if error.size < _FEWEST:
        return ()
    value = np.log(np.maximum(error, 1e-6))
    shape = (int(stretch.max()) + 1, int(cell.max()) + 1, 6)

    def told(signal: FloatArray) -> Slope:
        data = np.zeros(shape)
        kernels.stretch_sums(value, np.ascontiguousarray(signal), cell, stretch, data)
        return slope_of(StretchSums(data))

    found = []
    for words, candidates in signals.items():
        if not candidates:
            continue
        slopes = [(told(signal), seconds, signal) for seconds, signal in candidates]
        best, seconds, signal = max(slopes, key=lambda slope: slope[0].visits.share)
        alike = _both_ways(told(np.maximum(signal, 0)), told(np.minimum(signal, 0)))
        if not (best.gain.sure and best.visits.sure and alike):
            continue
        largest = float(np.quantile(np.abs(best.slope * signal), 0.95)) * 100
        found.append(Transient(words, best.slope, best.error, largest, seconds))
    return tuple(found)


def _both_ways(rising: Slope, falling: Slope) -> bool:
    """Whether an effect has one sign in either direction, as far as either can be told."""
    if abs(rising.slope) < rising.error or abs(falling.slope) < falling.error:
        return True
    return rising.slope * falling.slope > 0


def chosen(found: Transient, candidates: Sequence[tuple[float, FloatArray]]) -> FloatArray:
    """The signal that an effect rests on."""
    return min(candidates, key=lambda candidate: abs(candidate[0] - found.time_s))[1]


def transient_factor(found: Sequence[Transient], signals: Signals, size: int) -> FloatArray:
    """What the error is multiplied with to be rid of the transients; shape (n,)."""
    ahead = np.zeros(size)
    for transient in found:
        if transient.words in signals:
            ahead += transient.slope * chosen(transient, signals[transient.words])
    return 1.0 - np.clip(ahead, -_MOST, _MOST)
