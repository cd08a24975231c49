"""All recognised signals of a log on one time base; nothing is invented across a gap."""

from __future__ import annotations

import numpy as np

from uchiwa.core.knock.retard import LEARNED, MOMENTARY, RETARDS, degrees_out
from uchiwa.core.logs.log import FloatArray, Log, Raster

GAP_PERIODS = 3.0
GAP_S = 0.5
"""A gap longer than three of a channel's own sample periods, and than this, is left open."""

STATES = frozenset(
    {
        "loop_state", "gear", "in_gear", "low_octane_flag", "after_start_active", "overrun_cut_active", "marker",
        "knock_count", LEARNED,
    }
)  # fmt: skip
"""Quantities that jump: between two samples the earlier one holds."""

WORST = frozenset({*MOMENTARY, "knock_level"})
"""Quantities of which a moment's highest counts: between two base samples their maximum is taken."""


def own_period(time: FloatArray) -> float:
    """A channel's own sample period in s: the median step of its finite samples; 0 for fewer than two."""
    return float(np.median(np.diff(time))) if time.size > 1 else 0.0


def bridgeable(period: float) -> float:
    """The longest gap in s that may be bridged: three of the channel's own periods or half a second, the longer."""
    return max(GAP_PERIODS * period, GAP_S) * (1.0 + 1e-9)


def at_times(
    times: FloatArray, known_time: FloatArray, known: FloatArray, period: float, *, states: bool
) -> FloatArray:
    """Readings at other times: between two samples that are near enough, else NaN.

    Args:
        times: where they are wanted, s; shape (m,).
        known_time, known: samples of the channel, finite, in rising time; shape (n,).
        period: the channel's own sample period, s.
        states: whether the earlier sample holds until the next, as for gears; else a straight line joins them.
    """
    if known_time.size == 0:
        return np.full(times.shape, np.nan)
    longest = bridgeable(period)
    after = np.searchsorted(known_time, times, side="left")
    before = after - (known_time[np.minimum(after, known_time.size - 1)] != times)
    ahead, behind = np.minimum(after, known_time.size - 1), np.maximum(before, 0)
    if states:
        near = (before >= 0) & (times - known_time[behind] <= longest)
        return np.where(near, known[behind], np.nan)
    inside = (before >= 0) & (after < known_time.size)
    near = inside & (known_time[ahead] - known_time[behind] <= longest)
    line: FloatArray = np.interp(times, known_time, known)
    return np.where(near, line, np.nan)


def _highest(times: FloatArray, known_time: FloatArray, known: FloatArray, line: FloatArray) -> FloatArray:
    """The line through a channel's samples, raised to the highest of them nearest to each base time."""
    if times.size == 0 or known_time.size == 0:
        return line
    middle = (times[1:] + times[:-1]) / 2
    place = np.searchsorted(middle, known_time, side="right")
    inside = (known_time >= times[0] - GAP_S) & (known_time <= times[-1] + GAP_S)
    worst = np.full(times.shape, -np.inf)
    np.maximum.at(worst, place[inside], known[inside])
    return np.where(np.isfinite(worst), np.fmax(line, worst), line)


def joined(base: Raster, raster: Raster, values: FloatArray, quantity: str) -> FloatArray:
    """A channel's values on another time base; see `on_one_base`."""
    if quantity in RETARDS:
        values = degrees_out(values, quantity)
    finite = np.isfinite(values)
    if raster is base and finite.all():
        return values
    known_time, known = raster.time[finite], values[finite]
    states = quantity in STATES
    line = at_times(base.time, known_time, known, own_period(known_time), states=states)
    if quantity in WORST and raster is not base:
        return _highest(base.time, known_time, known, line)
    return line


def on_one_base(log: Log) -> tuple[FloatArray, dict[str, FloatArray]]:
    """The time base of engine speed, and every quantity on it.

    Channels of other rasters, and those that were recorded on some of the rows only, are joined by straight lines over
    no more than three of their own sample periods or half a second, whichever is longer; states and gears hold their
    last value as long; of knock retard and level the highest between two base times counts, and retard is told as degrees
    taken out, whichever sign the logger gives it; of retard by cylinder the most at each moment is the knock retard.

    Pressure ratio and boost are derived where the log has intake and barometric pressure but not them, and intake
    pressure from boost.

    Returns:
        Time in s, shape (n,), and quantity id -> values of shape (n,) in canonical units.
    """
    base = next(
        raster for raster in log.rasters if any(channel.quantity == "engine_speed" for channel in raster.channels)
    )
    signals: dict[str, FloatArray] = {}
    for raster in (base, *(other for other in log.rasters if other is not base)):
        for channel in raster.channels:
            if channel.quantity is not None and channel.quantity not in signals:
                signals[channel.quantity] = joined(base, raster, channel.values, channel.quantity)
    retards = [signals[one] for one in MOMENTARY if one in signals]
    if retards:
        signals["knock_retard"] = np.fmax.reduce(retards)
    barometer, boost = signals.get("barometric_pressure"), signals.get("boost_pressure")
    if barometer is not None and boost is not None:
        signals.setdefault("manifold_pressure", boost + barometer)
    pressure = signals.get("manifold_pressure")
    if pressure is not None and barometer is not None:
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = pressure / barometer
        signals.setdefault("pressure_ratio", np.where(np.isfinite(ratio), ratio, np.nan))
        signals.setdefault("boost_pressure", pressure - barometer)
    return base.time, signals
