"""The moments at which an engine idles by itself: which samples of a log say what it needs, and why the others do not."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.idle.starts import after_start, running
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.signal import held, rate, smooth

_CLOSED, _HIGHEST_REST = 3.0, 20.0
_STANDING_KMH = 2.0
_STILL_S = 2.0
_TARGET_WINDOW_S = 12.0
_FASTEST = 200.0
_HIGHEST_IDLE = 2200.0
_MOST_BY_ITSELF = 45.0


class Gear(StrEnum):
    """Whether the gearbox pulls at the idling engine."""

    NEUTRAL = "neutral"
    IN_GEAR = "in gear"


NOT_RUNNING = "not_running"
THROTTLE = "throttle"
MOVING = "moving"
AFTER_START = "after_start"
SETTLING = "settling"
GEAR_UNSAID = "gear_unsaid"
OFF_TARGET = "off_target"
NO_READING = "missing"
OUTSIDE = "outside"

TITLES = {
    NOT_RUNNING: ("not running", "The engine stands or is being cranked."),
    THROTTLE: ("throttle open", "The pedal holds the engine, not the idle control."),
    MOVING: ("moving", "The car rolls, so that the wheels may turn the engine."),
    AFTER_START: ("after start", "After-start enrichment and its extra air are still active."),
    SETTLING: ("settling", "Gear, throttle or speed changed just before: the control is still answering."),
    GEAR_UNSAID: ("gear not said", "An automatic gearbox pulls at the engine in gear, and the log does not say which."),
    OFF_TARGET: ("off its target", "The speed stood away from its target: what was asked for did not hold it."),
    NO_READING: ("no reading", "A channel that is needed has no reading here."),
    OUTSIDE: ("off the table", "Beyond the table's last temperature by more than half its spacing."),
}
"""The words and the sentence for each reason."""


@dataclass(frozen=True)
class IdleRules:
    """When a sample counts as idle.

    Attributes:
        settle_s: left out after a change of gear, throttle or speed.
        after_start_s: what after-start enrichment is taken to last where no flag tells.
        within_rpm: how far the speed may stand from its target.
        automatic: whether the gearbox pulls in gear while standing; None if nobody said.
    """

    settle_s: float = 3.0
    after_start_s: float = 20.0
    within_rpm: float = 100.0
    automatic: bool | None = None


@dataclass(frozen=True, eq=False)
class IdleMoments:
    """The verdict on a log's samples; arrays of shape (n,).

    Attributes:
        reasons: (reason, samples that it leaves out), in the order in which they are asked.
        in_gear: 1 where the gearbox pulls, 0 where it does not.
        away: how far the speed stands from its target, rpm.
        stillness: 0 … 1, how still the speed stood: the weight of a sample.
        targeted: whether the target was logged; else the speed's own slow course stands for it.
        notes: what could not be told, as sentences.
    """

    reasons: list[tuple[str, BoolArray]]
    in_gear: FloatArray
    away: FloatArray
    stillness: FloatArray
    targeted: bool
    notes: tuple[str, ...]


def throttle_closed(signals: Mapping[str, FloatArray]) -> BoolArray | None:
    """Where the pedal rests; None if neither pedal nor throttle was recorded.

    The pedal goes first: a throttle that the controller moves is not closed at idle.
    """
    for quantity in ("pedal_position", "throttle_position"):
        opened = signals.get(quantity)
        if opened is not None and np.isfinite(opened).any():
            rest = min(max(float(np.nanquantile(opened, 0.02)), 0.0), _HIGHEST_REST)
            shut: BoolArray = opened < rest + _CLOSED
            return shut
    return None


def gear_state(signals: Mapping[str, FloatArray], standing: BoolArray, automatic: bool | None) -> FloatArray:
    """1 in gear, 0 in neutral, NaN where nothing tells; shape (n,).

    By its own channel, else by the gear while standing. Without either, a car with a clutch idles in neutral.
    """
    told = signals.get("in_gear")
    if told is not None:
        return np.where(np.isfinite(told), (np.abs(told) > 0.5).astype(np.float64), np.nan)
    gear = signals.get("gear")
    if gear is not None and automatic is not False:
        return np.where(np.isfinite(gear), ((gear != 0) & standing).astype(np.float64), np.nan)
    return np.full(standing.shape, np.nan if automatic else 0.0)


def idle_moments(time: FloatArray, signals: Mapping[str, FloatArray], rules: IdleRules) -> IdleMoments:
    """Which samples of a log are idle moments: running, pedal at rest, standing, settled, on target.

    Args:
        time: s, rising; shape (n,).
        signals: by quantity id in canonical units; `engine_speed` is needed.
        rules: when a sample counts.
    """
    speed = signals["engine_speed"]
    notes: list[str] = []
    shut = throttle_closed(signals)
    if shut is None:
        notes.append("neither pedal nor throttle was recorded: a foot on the pedal goes unnoticed")
        shut = np.ones(time.shape, dtype=np.bool_)
    rolling = signals.get("vehicle_speed")
    if rolling is not None and np.isfinite(rolling).any():
        standing: BoolArray = ~(rolling > _STANDING_KMH)
    else:
        notes.append("vehicle speed was not recorded: coasting with the pedal at rest is told by engine speed alone")
        standing = speed < _HIGHEST_IDLE
    gear = gear_state(signals, standing, rules.automatic)
    target, targeted = _target(time, signals)
    away = speed - target
    moved = _changes(time, signals, shut, standing, gear)
    late = after_start(time, signals, rules.after_start_s)
    known = np.isfinite(speed) & np.isfinite(away)
    reasons = [
        (NOT_RUNNING, ~(running(speed))),
        (THROTTLE, ~shut),
        (MOVING, ~standing),
        (AFTER_START, late),
        (GEAR_UNSAID, ~np.isfinite(gear)),
        (SETTLING, held(time, moved, rules.settle_s)),
        (OFF_TARGET, known & (np.abs(away) > rules.within_rpm)),
    ]
    pace = rate(time, smooth(time, speed, 0.6), 1.0)
    still = 1.0 / (1.0 + (away / 40.0) ** 2) / (1.0 + (pace / 60.0) ** 2)
    return IdleMoments(reasons, np.nan_to_num(gear), away, np.nan_to_num(still), targeted=targeted, notes=tuple(notes))


def _target(time: FloatArray, signals: Mapping[str, FloatArray]) -> tuple[FloatArray, bool]:
    """The target idle speed; where it was not recorded, the slow course of the speed itself."""
    speed = signals["engine_speed"]
    told = signals.get("target_idle_speed")
    if told is not None and np.isfinite(told).any() and float(np.nanmax(told)) > 0:
        return told, True
    return smooth(time, np.where(running(speed), speed, np.nan), _TARGET_WINDOW_S), False


def _changes(
    time: FloatArray, signals: Mapping[str, FloatArray], shut: BoolArray, standing: BoolArray, gear: FloatArray
) -> BoolArray:
    """Samples at which something changed that the control has to answer."""
    speed = signals["engine_speed"]
    known = np.nan_to_num(gear, nan=-1.0)
    changed = np.concatenate(([False], np.diff(known) != 0))
    changed |= ~shut | ~standing | ~running(speed)
    changed |= np.abs(rate(time, smooth(time, speed, 0.6), 1.0)) > _FASTEST
    return changed
