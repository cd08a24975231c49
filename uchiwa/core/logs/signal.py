"""Operations on one sampled signal: rate of change, holding a condition for a while."""

from __future__ import annotations

import numpy as np
from scipy.ndimage import median_filter

from uchiwa.core.logs.log import BoolArray, FloatArray

RATE_WINDOW_S = 0.2
_GAP_STEPS = 3.0
_GAP_S = 0.5
_AROUND_STEPS = 9
_CLOCK_GRAIN_S = 1e-6


def _even_step(time: FloatArray) -> float:
    """The step of a time base whose steps are all alike to a microsecond, else 0."""
    if time.size < 3:
        return 0.0
    step = float(time[-1] - time[0]) / (time.size - 1)
    even = np.abs(time - (time[0] + step * np.arange(time.size))).max() < _CLOCK_GRAIN_S
    return step if step > 0 and even else 0.0


def rate(time: FloatArray, values: FloatArray, window: float = RATE_WINDOW_S) -> FloatArray:
    """Rate of change per second, as the difference across a centred window.

    Args:
        time: seconds, rising; shape (n,).
        values: shape (n,); NaN is left out of account.
        window: width in seconds over which the difference is taken.
    """
    finite = np.isfinite(values)
    if int(finite.sum()) < 2:
        return np.full(time.shape, np.nan)
    step = _even_step(time)
    reach = round(window / 2 / step) if step else 0
    if reach >= 1 and abs(reach * step - window / 2) < _CLOCK_GRAIN_S and finite.all() and time.size > 2 * reach:
        changed = np.empty(time.shape)
        changed[reach:-reach] = (values[2 * reach :] - values[: -2 * reach]) / (2 * reach * step)
        changed[:reach] = (values[reach : 2 * reach] - values[0]) / (time[reach : 2 * reach] - time[0])
        changed[-reach:] = (values[-1] - values[-2 * reach : -reach]) / (time[-1] - time[-2 * reach : -reach])
        return changed
    ahead = np.minimum(time + window / 2, time[-1])
    behind = np.maximum(time - window / 2, time[0])
    known_time, known = time[finite], values[finite]
    span = np.maximum(ahead - behind, 1e-9)
    change: FloatArray = (np.interp(ahead, known_time, known) - np.interp(behind, known_time, known)) / span
    return change


def smooth(time: FloatArray, values: FloatArray, window: float) -> FloatArray:
    """Centred mean over `window` seconds; gaps do not count, and stay gaps."""
    finite = np.isfinite(values)
    sums = np.concatenate(([0.0], np.cumsum(np.where(finite, values, 0.0))))
    counts = np.concatenate(([0], np.cumsum(finite)))
    step = _even_step(time)
    if step:
        reach = int((window / 2 + _CLOCK_GRAIN_S) / step)
        place = np.arange(time.size)
        first, last = np.maximum(place - reach, 0), np.minimum(place + reach, time.size - 1) + 1
    else:
        first = np.searchsorted(time, time - window / 2 - _CLOCK_GRAIN_S, side="left")
        last = np.searchsorted(time, time + window / 2 + _CLOCK_GRAIN_S, side="right")
    number = counts[last] - counts[first]
    with np.errstate(invalid="ignore", divide="ignore"):
        mean: FloatArray = np.where(finite & (number > 0), (sums[last] - sums[first]) / number, np.nan)
    return mean


def held(time: FloatArray, active: BoolArray, seconds: float) -> BoolArray:
    """`active`, kept true until `seconds` after it last was."""
    latest = np.maximum.accumulate(np.where(active, time, -np.inf))
    kept: BoolArray = time - latest <= seconds + _CLOCK_GRAIN_S
    return kept


def since(time: FloatArray, active: BoolArray) -> FloatArray:
    """Seconds since `active` began to hold, or since the first time if it held from there; NaN where it does not hold."""
    if not time.size:
        return np.empty(0)
    began = active & ~np.concatenate(([False], active[:-1]))
    latest = np.maximum.accumulate(np.where(began, time, -np.inf))
    return np.where(active, time - latest, np.nan)


def durations(time: FloatArray) -> FloatArray:
    """Seconds that each sample stands for: until the next one, but never across a gap.

    A gap is longer than three of the steps around it, or half a second if that is more; so a log whose rate changes counts
    every second once. What stands before a gap counts as one of the steps around it.
    """
    if time.size < 2:
        return np.zeros(time.shape)
    steps = np.diff(time)
    usual = (
        median_filter(steps, size=_AROUND_STEPS, mode="nearest")
        if steps.size >= 3
        else np.full(steps.shape, np.median(steps))
    )
    gap = steps > np.maximum(_GAP_STEPS * usual, _GAP_S)
    return np.append(np.where(gap, usual, steps), usual[-1])


_WINDOWS_S = (0.4, 0.8, 1.6)
_QUIET = 0.2
_WIDEST_S = 1.0
_LOOKED_AT, _STRETCH = 40_000, 500


def noise_of(values: FloatArray) -> float:
    """Standard deviation of a channel's own noise, from its second differences, which slow changes hardly touch.

    σ = 1.4826 · MAD(x₋ − 2x + x₊)/√6: for white noise the second difference has the variance 6σ².
    """
    if values.size > _LOOKED_AT:
        values = values[: values.size // _STRETCH * _STRETCH].reshape(-1, _STRETCH)
        values = values[:: max(1, values.size // _LOOKED_AT)].ravel()
    finite = values[np.isfinite(values)]
    if finite.size < 5:
        return 0.0
    bend = finite[2:] - 2 * finite[1:-1] + finite[:-2]
    return 1.4826 * float(np.median(np.abs(bend - np.median(bend)))) / float(np.sqrt(6.0))


def quiet(time: FloatArray, values: FloatArray, most: float) -> FloatArray:
    """A signal smoothed just so far that its own noise is at most so large, one standard deviation."""
    sigma = noise_of(values)
    if sigma <= most or time.size < 5:
        return values
    step = float(np.median(np.diff(time)))
    together = min((sigma / most) ** 2, max(_WIDEST_S / max(step, 1e-6), 1.0))
    return smooth(time, values, together * step)


def steady_rate(time: FloatArray, values: FloatArray, most: float) -> FloatArray:
    """Rate of change per second over a window so wide that the channel's noise does not look like a change.

    Args:
        time: s, rising; shape (n,).
        values: shape (n,).
        most: the rate that is asked about; noise is to make a fifth of it, at most, in one standard deviation.
    """
    sigma = noise_of(values)
    if sigma * np.sqrt(2.0) / RATE_WINDOW_S <= _QUIET * most or time.size < 5:
        return rate(time, values)
    step = float(np.median(np.diff(time)))
    window = _WINDOWS_S[-1]
    for one in _WINDOWS_S:
        together = max(one / max(step, 1e-6), 1.0)
        if sigma * np.sqrt(2.0 / together) / one <= _QUIET * most:
            window = one
            break
    return rate(time, smooth(time, values, window), window)


def spans(time: FloatArray, active: BoolArray, shortest: float = 0.0, bridge: float = 0.0) -> list[tuple[float, float]]:
    """Stretches of time in which `active` holds.

    Args:
        time: seconds, rising; shape (n,).
        active: shape (n,).
        shortest: stretches of fewer seconds are dropped.
        bridge: interruptions of up to this many seconds do not end a stretch.

    Returns:
        (first, last) times, in order.
    """
    if not active.any():
        return []
    edges = np.flatnonzero(np.diff(np.concatenate(([False], active, [False])).astype(np.int8)))
    starts, ends = time[edges[::2]], time[edges[1::2] - 1]
    if bridge > 0 and starts.size > 1:
        apart = starts[1:] - ends[:-1] > bridge
        starts, ends = starts[np.concatenate(([True], apart))], ends[np.concatenate((apart, [True]))]
    long = ends - starts >= shortest - _CLOCK_GRAIN_S
    return [(float(first), float(last)) for first, last in zip(starts[long], ends[long], strict=True)]


def within(time: FloatArray, stretches: list[tuple[float, float]]) -> BoolArray:
    """Which times lie in one of the stretches, ends included."""
    inside = np.zeros(time.shape, dtype=np.bool_)
    for first, last in stretches:
        inside[np.searchsorted(time, first, side="left") : np.searchsorted(time, last, side="right")] = True
    return inside
