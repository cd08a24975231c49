"""The airflow signal that a car reached at full load before it was given boost, by engine speed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.falling_fit import SampleWeights, fit_falling
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.signal import durations, held
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.tables.table import Axis, Table

ROLE = "airflow_clamp"
SIGNALS = ("airflow_voltage", "airflow_frequency")
QUANTITIES = frozenset({
    "engine_speed", *SIGNALS, "throttle_position", "pedal_position", "manifold_pressure", "barometric_pressure",
    "boost_pressure", "pressure_ratio", "vehicle_speed", "gear",
})  # fmt: skip
"""Every quantity that a clamp may look at."""
_RUNNING = 500.0
_LOWEST_PULL = 1000.0
_SETTLES_S = 0.25
_BOOST_KPA = 5.0
_BOOSTED_S = 0.3
_AIR_OUTSIDE = 101.3
_LEVEL_S = 0.5


@dataclass(frozen=True, eq=False)
class ClampEvidence:
    """Full-load samples of all logs, and what they come to at each speed of the table.

    Attributes:
        names: of the logs.
        log: index of the log each sample is from; shape (n,).
        time: seconds in its log; shape (n,).
        speed: in the unit of the table's axis; shape (n,).
        signal: in the unit of the table's other axis; shape (n,).
        reached: signal at each speed breakpoint, never falling with speed; speeds without samples follow the nearest that
            has them; shape (columns of speed,).
        samples: at each speed breakpoint; shape (columns of speed,).
        lowest, highest: signal seen with the engine running, and at full load.
        notes: what had to be assumed, as sentences.
    """

    names: tuple[str, ...]
    log: IntArray
    time: FloatArray
    speed: FloatArray
    signal: FloatArray
    reached: FloatArray
    samples: FloatArray
    lowest: float
    highest: float
    notes: tuple[str, ...] = ()


def axes_of(table: Table) -> tuple[Axis, Axis]:
    """The speed axis and the signal axis of a clamp, whichever way it is laid.

    Raises:
        BadInput: it is not laid over engine speed and a signal.
    """
    axes = {axis.quantity: axis for axis in (table.x, table.y) if axis is not None}
    signal = next((axes[one] for one in SIGNALS if one in axes), None)
    if "engine_speed" not in axes or signal is None:
        raise BadInput(
            "a clamp is laid over engine speed and the airflow signal",
            where=table.title,
            advice="give it these axes, or another role",
        )
    return axes["engine_speed"], signal


def gather_clamp(logs: Sequence[Log], table: Table, policy: ClampPolicy) -> ClampEvidence:
    """Full-load moments of logs from before boost.

    Raises:
        BadInput: a channel is wanting, the logs hold boost, whether they do cannot be told, or none holds full load.
    """
    speeds, signals_axis = axes_of(table)
    parts, notes, lowest = [], [], np.inf
    if not logs:
        raise BadInput("there is no log", advice="give at least one")
    for number, log in enumerate(logs):
        time, signals = on_one_base(log)
        if signals_axis.quantity not in signals:
            raise BadInput(
                f"the log has no {signals_axis.title}, the signal that is clamped",
                where=log.name,
                advice="record the raw signal",
            )
        signal = axis_values(signals_axis, signals, log.name)
        speed = axis_values(speeds, signals, log.name)
        notes += _before_boost(log.name, time, signals, policy)
        full = _full_load(time, signals, policy) & np.isfinite(signal) & np.isfinite(speed)
        turning = (signals["engine_speed"] > _RUNNING) & np.isfinite(signal)
        if turning.any():
            lowest = min(lowest, float(np.quantile(signal[turning], 0.005)))
        parts.append((np.full(int(full.sum()), number), time[full], speed[full], signal[full], durations(time)[full]))
    log_of, time_of, speed_of, signal_of, seconds = (np.concatenate(one) for one in zip(*parts, strict=True))
    if signal_of.size < policy.minimum_samples:
        raise BadInput(
            "no log holds full load",
            advice=f"record pulls with the throttle beyond {policy.full_load_throttle:g} %, before the car has boost",
        )
    reached, samples = _reached(speeds, speed_of, signal_of, (seconds, time_of, log_of), policy)
    if not np.isfinite(reached).any():
        raise BadInput(
            "no speed of the table was held for long enough at full load",
            advice=f"each needs {policy.minimum_samples:g} samples: pull more slowly, or in a higher gear",
        )
    return ClampEvidence(
        tuple(log.name for log in logs), log_of.astype(np.int64), time_of, speed_of, signal_of,
        reached, samples, lowest, float(np.nanmax(reached)), tuple(dict.fromkeys(notes)),
    )  # fmt: skip


def _full_load(time: FloatArray, signals: dict[str, FloatArray], policy: ClampPolicy) -> BoolArray:
    opened = signals.get("throttle_position", signals.get("pedal_position"))
    speed = signals["engine_speed"]
    if opened is None:
        raise BadInput("the log has neither throttle nor pedal, so that full load is not known", advice="record one")
    wide = opened >= policy.full_load_throttle
    # The air comes a moment after the throttle.
    settled: BoolArray = wide & ~held(time, ~wide, _SETTLES_S) & (speed > _LOWEST_PULL)
    return settled


def _before_boost(name: str, time: FloatArray, signals: dict[str, FloatArray], policy: ClampPolicy) -> list[str]:
    """What to say of a log whose boost is not known.

    Raises:
        BadInput: it holds boost, or nothing tells whether it does.
    """
    pressure, boost = signals.get("manifold_pressure"), signals.get("boost_pressure")
    if boost is None and pressure is not None:
        boost = pressure - _AIR_OUTSIDE
    if boost is None or not np.isfinite(boost).any():
        if not policy.before_boost:
            raise BadInput(
                "whether the car had boost cannot be told: the log has no intake pressure",
                where=name,
                advice="record it, or say that the log is from before boost",
            )
        return [f"that {name} is from before boost is a person's word: it has no intake pressure"]
    seconds = float(durations(time)[np.nan_to_num(boost, nan=-1.0) > _BOOST_KPA].sum())
    if seconds > _BOOSTED_S:
        raise BadInput(
            f"the log already holds boost, {float(np.nanmax(boost)):.0f} kPa above the air outside: what the car reached "
            "before it cannot be told from it",
            where=name,
            advice="use pulls from before the car had boost",
        )
    return []


def _reached(
    speeds: Axis,
    speed: FloatArray,
    signal: FloatArray,
    of: tuple[FloatArray, FloatArray, FloatArray],
    policy: ClampPolicy,
) -> tuple[FloatArray, FloatArray]:
    """The signal at each speed: the rising curve through the samples, raised to the quantile of what lies about it.

    What lies about it is meant over half a second, so that one pull's being higher than another counts and noise does not.
    """
    seconds, time, log = of
    inside = speeds.covers(speed)
    x, y = speed[inside], signal[inside]
    samples = np.bincount(speeds.nearest(x), minlength=speeds.size).astype(np.float64)
    if x.size < 2:
        return np.full(speeds.size, np.nan), samples
    weights = SampleWeights(
        np.ones(x.size), seconds[inside], np.floor(time[inside]).astype(np.int64), log[inside].astype(np.int64)
    )
    # A curve that never falls is the negative of one that never rises.
    start = -np.linspace(float(y.min()), float(y.max()), speeds.size)
    fit = fit_falling(speeds, x, -y, weights, start, np.zeros(speeds.size))
    below, share = speeds.place(x)
    curve = -fit.value
    rest = y - (curve[below] * (1 - share) + curve[below + 1] * share)
    level = _levels(rest, time[inside], log[inside])
    raised = curve + max(float(np.quantile(level, policy.quantile / 100.0)), 0.0)
    known = samples >= policy.minimum_samples
    if not known.any():
        return np.full(speeds.size, np.nan), samples
    places = np.flatnonzero(known)
    nearest = places[np.argmin(np.abs(np.arange(speeds.size)[:, None] - places[None, :]), axis=1)]
    return np.asarray(np.where(known, raised, raised[nearest])), samples


def _levels(rest: FloatArray, time: FloatArray, log: FloatArray) -> FloatArray:
    """Each sample's mean over its half second of its log; shape (m,)."""
    _, part = np.unique(np.stack([log, np.floor(time / _LEVEL_S)]), axis=1, return_inverse=True)
    part = part.ravel()
    mean = np.bincount(part, weights=rest) / np.bincount(part)
    return np.asarray(mean[part])
