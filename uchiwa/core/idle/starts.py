"""Starts and stops of the engine in a log, and the after-start enrichment that follows a start."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.signal import held, spans

RUNNING_RPM = 400.0
STANDING_RPM = 150.0
_RAN_S = 1.0
_DIPPED_S, _DIPPED_SHARE = 6.0, 0.75
_SOON_S = 20.0


class Stop(StrEnum):
    """How the engine came to stand."""

    STALLED = "stalled"
    STOPPED = "stopped"


@dataclass(frozen=True)
class EngineStart:
    """A start: when the engine began to turn, or the log began, and when it first ran by itself; s."""

    cranked: float
    ran: float


@dataclass(frozen=True)
class Standstill:
    """When a running engine fell to a stand, and whether it was meant to."""

    at: float
    how: Stop


def running(speed: FloatArray) -> BoolArray:
    """Where the engine runs by itself; shape (n,). It turns slower while it is cranked."""
    runs: BoolArray = speed > RUNNING_RPM
    return runs


def starts(time: FloatArray, speed: FloatArray) -> tuple[EngineStart, ...]:
    """Every start that the log saw: from a stand or from cranking to running for a second.

    Args:
        time: s, rising; shape (n,).
        speed: engine speed, rpm; shape (n,).
    """
    found: list[EngineStart] = []
    for first, _ in spans(time, running(speed), shortest=_RAN_S):
        before = (time < first) & (time > first - _SOON_S)
        if not before.any() or not (speed[before] <= RUNNING_RPM).any():
            continue
        standing = np.flatnonzero(before & (speed <= STANDING_RPM))
        cranked = float(time[min(standing[-1] + 1, time.size - 1)]) if standing.size else float(time[before][0])
        found.append(EngineStart(cranked, first))
    return tuple(found)


def standstills(time: FloatArray, speed: FloatArray) -> tuple[Standstill, ...]:
    """Every time a running engine came to stand in the log.

    It stalled if it was started again within the log, if it had just been started, or if its speed had sagged to three
    quarters before it fell; else it may have been switched off.
    """
    found: list[Standstill] = []
    turning = spans(time, running(speed), shortest=_RAN_S)
    for number, (first, last) in enumerate(turning):
        after = time > last
        if not after.any() or not (speed[after] < STANDING_RPM).any():
            continue
        inside = (time >= max(first, last - _DIPPED_S)) & (time <= last)
        usual = float(np.nanmedian(speed[(time >= first) & (time <= last)]))
        # The fall itself takes under a second; what is lower before that had sagged.
        sagged = speed[inside & (time < last - 1.0)]
        again = number + 1 < len(turning)
        low = sagged.size > 0 and float(np.nanmin(sagged)) < _DIPPED_SHARE * usual
        stalled = again or low or last - first < _SOON_S
        found.append(Standstill(last, Stop.STALLED if stalled else Stop.STOPPED))
    return tuple(found)


def after_start(
    time: FloatArray, signals: Mapping[str, FloatArray], seconds: float, settle_s: float = 1.0
) -> BoolArray:
    """Where after-start enrichment may still be active, and a moment after it; shape (n,).

    By its flag; without one, so many seconds from each start, and from the log's beginning if the engine was running then.

    Args:
        time: s, rising; shape (n,).
        signals: by quantity id.
        seconds: that it is taken to last where no flag tells.
        settle_s: left out after its end.
    """
    speed = signals["engine_speed"]
    begun = [start.ran for start in starts(time, speed)]
    flag = signals.get("after_start_active")
    if flag is not None and np.isfinite(flag).any():
        return held(time, flag > 0.5, settle_s)
    active = np.zeros(time.shape, dtype=np.bool_)
    cold_from_the_first = not begun or begun[0] > time[0] + _SOON_S
    for at in [*begun, *([float(time[0])] if cold_from_the_first and running(speed)[:5].any() else [])]:
        active |= (time >= at) & (time < at + seconds)
    return active
