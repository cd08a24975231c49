"""How well an engine idles, by coolant band: scatter of its speed, dips, stalls, and how hard the control has to work."""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.idle.moments import AFTER_START, MOVING, NOT_RUNNING, THROTTLE, IdleRules, idle_moments
from uchiwa.core.idle.starts import Stop, standstills
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.logs.signal import durations, smooth, spans
from uchiwa.core.logs.timebase import on_one_base

BANDS = (-50.0, 0.0, 20.0, 40.0, 60.0, 80.0, 150.0)
"""Borders of the coolant bands, degC."""
_DIP_RPM, _DIP_SHARE = 120.0, 0.12
_LEAST_S = 2.0
_ALWAYS_OUT = (NOT_RUNNING, THROTTLE, MOVING, AFTER_START)
_WANDER_S = 8.0


@dataclass(frozen=True)
class BandQuality:
    """How the engine idled within a coolant band.

    Attributes:
        low, high: of the band, degC.
        seconds: at idle.
        speed: mean, rpm.
        scatter: standard deviation of the speed about its target, rpm; about its own slow course where no target was logged.
        off: mean distance from the target, rpm; NaN where none was logged.
        dips: times the speed fell well below its target.
        lowest: speed, rpm.
        spark: standard deviation of spark, degrees; NaN where it was not logged.
        airflow: standard deviation of the desired airflow about its slow course, g/s; NaN likewise.
    """

    low: float
    high: float
    seconds: float
    speed: float
    scatter: float
    off: float
    dips: int
    lowest: float
    spark: float
    airflow: float

    @property
    def words(self) -> str:
        """The band as a tuner says it."""
        if self.low <= BANDS[0]:
            return f"below {self.high:.0f} °C"
        return f"{self.low:.0f} °C and above" if self.high >= BANDS[-1] else f"{self.low:.0f} to {self.high:.0f} °C"


@dataclass(frozen=True, eq=False)
class IdleQuality:
    """How an engine idled over some logs.

    Attributes:
        bands: those in which it idled, coldest first.
        stalls: (log, s) of each time it stalled.
        moments: (log, start, end) of each dip.
        targeted: whether the target was logged.
    """

    bands: tuple[BandQuality, ...]
    stalls: tuple[tuple[int, float], ...]
    moments: tuple[tuple[int, float, float], ...]
    targeted: bool


@dataclass(frozen=True, eq=False)
class _Idle:
    coolant: FloatArray
    speed: FloatArray
    away: FloatArray
    spark: FloatArray
    airflow: FloatArray
    seconds: FloatArray
    dips: tuple[tuple[float, float], ...]
    dip_coolant: tuple[float, ...]
    stalls: tuple[float, ...]
    targeted: bool


def idle_quality(logs: Sequence[Log], rules: IdleRules | None = None) -> IdleQuality:
    """How the engine idled, all logs together.

    Raises:
        BadInput: a log has no coolant temperature.
    """
    found = [_of_log(log, rules or IdleRules(automatic=False)) for log in logs]
    bands = []
    for low, high in itertools.pairwise(BANDS):
        band = _band(found, low, high)
        if band is not None:
            bands.append(band)
    stalls = tuple((number, at) for number, idle in enumerate(found) for at in idle.stalls)
    dips = tuple((number, a, b) for number, idle in enumerate(found) for a, b in idle.dips)
    return IdleQuality(tuple(bands), stalls, dips, targeted=bool(found) and all(idle.targeted for idle in found))


def _of_log(log: Log, rules: IdleRules) -> _Idle:
    time, signals = on_one_base(log)
    if "coolant_temperature" not in signals:
        raise BadInput("the log has no coolant temperature", where=log.name, advice="record it from cold to warm")
    moments = idle_moments(time, signals, rules)
    out: BoolArray = np.any([mask for reason, mask in moments.reasons if reason in _ALWAYS_OUT], axis=0)
    idling = ~out & np.isfinite(signals["coolant_temperature"])
    speed = signals["engine_speed"]
    stopped = standstills(time, speed)
    for standstill in stopped:  # the fall to a stand is the stall's, not a dip
        idling &= ~((time > standstill.at - 1.0) & (time <= standstill.at))
    target = speed - moments.away
    low = idling & (moments.away < -np.maximum(_DIP_RPM, _DIP_SHARE * target))
    dips = spans(time, low, bridge=0.5)
    coolant = signals["coolant_temperature"]
    return _Idle(
        coolant[idling], speed[idling], moments.away[idling],
        _about(time, signals.get("spark_advance"), idling), _about(time, signals.get("idle_airflow_target"), idling),
        durations(time)[idling], tuple(dips),
        tuple(float(coolant[np.searchsorted(time, first)]) for first, _ in dips),
        tuple(standstill.at for standstill in stopped if standstill.how is Stop.STALLED), moments.targeted,
    )  # fmt: skip


def _about(time: FloatArray, values: FloatArray | None, idling: BoolArray) -> FloatArray:
    """A signal's distance from its own slow course at idle."""
    if values is None:
        return np.full(int(idling.sum()), np.nan)
    return (values - smooth(time, np.where(idling, values, np.nan), _WANDER_S))[idling]


def _band(found: Sequence[_Idle], low: float, high: float) -> BandQuality | None:
    inside = [(idle.coolant >= low) & (idle.coolant < high) for idle in found]

    def every(values: Sequence[FloatArray]) -> FloatArray:
        return np.concatenate([value[mask] for value, mask in zip(values, inside, strict=True)])

    if not found:
        return None
    seconds = float(every([idle.seconds for idle in found]).sum())
    if seconds < _LEAST_S:
        return None
    speed, away = every([idle.speed for idle in found]), every([idle.away for idle in found])
    away = away[np.isfinite(away)]
    targeted = all(idle.targeted for idle in found)
    return BandQuality(
        low, high, seconds, float(np.nanmean(speed)),
        float(np.sqrt(np.mean(away**2))) if away.size else float("nan"),
        float(np.mean(away)) if targeted and away.size else float("nan"),
        sum(low <= coolant < high for idle in found for coolant in idle.dip_coolant),
        float(np.nanmin(speed)),
        _scatter(every([idle.spark for idle in found])), _scatter(every([idle.airflow for idle in found])),
    )  # fmt: skip


def _scatter(values: FloatArray) -> float:
    known = values[np.isfinite(values)]
    return float(np.std(known)) if known.size > 1 else float("nan")
