"""Which samples to leave out for fuel work: named rules, each counted by what it removes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.logs.signal import held, rate, steady_rate


@dataclass(frozen=True)
class Limits:
    """Thresholds of the rules, in canonical units."""

    warm_coolant: float = 80.0
    overrun_recovery_s: float = 1.0
    closed_injector_ms: float = 0.05
    overrun_speed: float = 1200.0
    overrun_lean: float = 1.2
    overrun_pressure: float = 60.0
    closed_throttle: float = 2.5
    opens_by: float = 5.0
    rich_rail: float = 0.685
    lean_rail: float = 1.30
    rail_recovery_s: float = 0.3
    fast_throttle: float = 30.0
    fast_pressure: float = 40.0
    fast_speed: float = 1500.0
    soaked_above: float = 25.0
    calm_throttle: float = 40.0
    falling_throttle: float = 5.0
    light_throttle: float = 8.0
    high_speed: float = 3000.0


@dataclass(frozen=True, eq=False)
class Samples:
    """What the rules look at: signals by quantity id on one time base, the mixture already free of its delay."""

    time: FloatArray
    signals: Mapping[str, FloatArray]
    limits: Limits
    settle_s: float

    def get(self, quantity: str) -> FloatArray | None:
        """The signal of a quantity, or None if it was not recorded."""
        return self.signals.get(quantity)

    @property
    def closed(self) -> BoolArray | None:
        """Where the throttle is closed; None if it was not recorded, or never opened so that its rest is not known."""
        throttle = self.get("throttle_position")
        if throttle is None or not np.isfinite(throttle).any():
            return None
        rest = min(max(float(np.nanquantile(throttle, 0.01)), 0.0), 20.0)
        if float(np.nanmax(throttle)) < rest + self.limits.opens_by:
            return None
        shut: BoolArray = throttle < rest + self.limits.closed_throttle
        return shut

    def none(self) -> BoolArray:
        """A rule that finds nothing."""
        return np.zeros(self.time.shape, dtype=np.bool_)


@dataclass(frozen=True)
class Rule:
    """A named reason to leave samples out.

    Attributes:
        id: used in policies and reports.
        title: one or two words for the sieve.
        sentence: what it leaves out and why.
        finds: the samples it leaves out.
        usual: whether it applies unless it is switched off; the others apply only when switched on.
    """

    id: str
    title: str
    sentence: str
    finds: Callable[[Samples], BoolArray]
    usual: bool = True


def _cold(samples: Samples) -> BoolArray:
    coolant = samples.get("coolant_temperature")
    return samples.none() if coolant is None else ~(coolant >= samples.limits.warm_coolant)


def _heat_soaked(samples: Samples) -> BoolArray:
    intake = samples.get("intake_air_temperature")
    if intake is None or not np.isfinite(intake).any():
        return samples.none()
    throttle = samples.get("throttle_position")
    calm = ~samples.none() if throttle is None else throttle < samples.limits.calm_throttle
    soaked: BoolArray = calm & (intake > np.nanquantile(intake, 0.03) + samples.limits.soaked_above)
    return soaked


def _falling(samples: Samples) -> BoolArray:
    throttle = samples.get("throttle_position")
    if throttle is None:
        return samples.none()
    return held(samples.time, rate(samples.time, throttle) < -samples.limits.falling_throttle, samples.settle_s / 2)


def _reversion(samples: Samples) -> BoolArray:
    throttle, speed = samples.get("throttle_position"), samples.get("engine_speed")
    if throttle is None or speed is None:
        return samples.none()
    return (throttle < samples.limits.light_throttle) & (speed > samples.limits.high_speed)


def _after_start(samples: Samples) -> BoolArray:
    active = samples.get("after_start_active")
    return samples.none() if active is None else active > 0.5


def _overrun(samples: Samples) -> BoolArray:
    flag, pulse = samples.get("overrun_cut_active"), samples.get("injector_pulse")
    cut = samples.none()
    if flag is not None:
        cut |= flag > 0.5
    elif pulse is not None:
        cut |= pulse <= samples.limits.closed_injector_ms
    mixture, closed = samples.get("lambda_measured"), samples.closed
    if mixture is not None and closed is not None:
        speed = samples.get("engine_speed")
        above_idle = closed & (speed > samples.limits.overrun_speed) if speed is not None else closed
        pressure = samples.get("manifold_pressure")
        if pressure is not None:  # with air in the cylinders it is a lean engine, and that must not be left out
            above_idle &= ~(pressure > samples.limits.overrun_pressure)
        cut |= above_idle & (mixture >= samples.limits.overrun_lean)
    return held(samples.time, cut, samples.limits.overrun_recovery_s)


def _rail(samples: Samples) -> BoolArray:
    mixture = samples.get("lambda_measured")
    if mixture is None:
        return samples.none()
    beyond = (mixture <= samples.limits.rich_rail) | (mixture >= samples.limits.lean_rail)
    return held(samples.time, beyond, samples.limits.rail_recovery_s)


def _transient(samples: Samples) -> BoolArray:
    fast = samples.none()
    for quantity, most in (
        ("throttle_position", samples.limits.fast_throttle),
        ("manifold_pressure", samples.limits.fast_pressure),
        ("engine_speed", samples.limits.fast_speed),
    ):
        signal = samples.get(quantity)
        if signal is not None:
            fast |= np.abs(steady_rate(samples.time, signal, most)) > most
    return held(samples.time, fast, samples.settle_s)


RULES: tuple[Rule, ...] = (
    Rule(
        "cold",
        "cold",
        "The coolant is below 80 °C: warm-up enrichment and cold walls still shift the mixture.",
        _cold,
    ),
    Rule(
        "heat_soaked",
        "heat-soaked",
        "The intake air is over 25 °C hotter than at the coolest of this log, as after standing: charge and sensor no longer agree.",
        _heat_soaked,
    ),
    Rule("after_start", "after start", "After-start enrichment is still active.", _after_start),
    Rule(
        "overrun",
        "overrun",
        "Overrun fuel cut, by its flag, closed injectors, or a lean mixture with the throttle closed; and the second after it.",
        _overrun,
    ),
    Rule(
        "rail",
        "sensor at rail",
        "The mixture sensor is at its rail, λ up to 0.685 or from 1.30, or just returning from it.",
        _rail,
    ),
    Rule(
        "transient",
        "transient",
        "Throttle, pressure or speed change fast (30 %/s, 40 kPa/s, 1500 rpm/s), and the settling time after it.",
        _transient,
    ),
    Rule(
        "falling",
        "throttle falling",
        "The throttle is closing by over 5 %/s: fuel leaves the walls and the mixture reads rich.",
        _falling,
        usual=False,
    ),
    Rule(
        "reversion",
        "light throttle at speed",
        "Throttle under 8 % above 3000 rpm: air drawn back through the exhaust reads lean at the sensor.",
        _reversion,
        usual=False,
    ),
)

MISSING = "missing"
OUTSIDE = "outside"
OPEN_LOOP = "open_loop"
CLOSED_LOOP = "closed_loop"
NO_TARGET = "no_target"
NOT_IN_USE = "not_in_use"
FOLLOWING = "following"
_ALWAYS = {
    MISSING: ("no reading", "A channel the computation needs has no reading here."),
    OUTSIDE: ("off the table", "More than half a cell beyond the table's last breakpoint."),
    OPEN_LOOP: ("open loop", "The loop is open; without a wideband sensor only closed-loop samples say anything."),
    CLOSED_LOOP: ("closed loop", "The loop is closed, and only open-loop samples are asked for."),
    NO_TARGET: ("no target", "The λ target table has no target here, so that there is nothing to compare with."),
    FOLLOWING: (
        "trims moving",
        "The trims were still over 2 % from where they were going, or moved by over 0.4 %/s: they do not say yet what they will hold.",
    ),
    NOT_IN_USE: ("other table", "The controller was using another of its tables here."),
}


def title_of(reason: str) -> str:
    """The words for a reason; the text of a condition of one's own stands for itself."""
    if reason in _ALWAYS:
        return _ALWAYS[reason][0]
    return next((rule.title for rule in RULES if rule.id == reason), f"not {reason}")


def sentence_of(reason: str) -> str:
    """What a reason leaves out and why."""
    if reason in _ALWAYS:
        return _ALWAYS[reason][1]
    return next((rule.sentence for rule in RULES if rule.id == reason), f"Where {reason} does not hold.")


def applies(rule: Rule, without: tuple[str, ...], also: tuple[str, ...]) -> bool:
    """Whether a rule applies, given those switched off and those switched on."""
    return rule.id not in without if rule.usual else rule.id in also


def rule_named(rule_id: str) -> Rule:
    """The rule of this id.

    Raises:
        KeyError: there is none.
    """
    for rule in RULES:
        if rule.id == rule_id:
            return rule
    raise KeyError(rule_id)


def switchable(reason: str) -> bool:
    """Whether a policy may switch this reason off."""
    return any(rule.id == reason for rule in RULES)


@dataclass(frozen=True, eq=False)
class Sieve:
    """What became of the samples.

    Attributes:
        reasons: ids in the order in which they were asked.
        verdict: per sample −1 if it is used, else the index of the first reason that left it out; shape (n,).
    """

    reasons: tuple[str, ...]
    verdict: IntArray

    def without(self, reason: str, mask: BoolArray) -> Sieve:
        """The same with more samples left out, of those that were used."""
        verdict = np.where(self.used & mask, len(self.reasons), self.verdict)
        return Sieve((*self.reasons, reason), verdict)

    @property
    def used(self) -> BoolArray:
        """Which samples are used."""
        kept: BoolArray = self.verdict < 0
        return kept


def sift(found: list[tuple[str, BoolArray]], size: int) -> Sieve:
    """One verdict for each sample: the first reason that leaves it out, so that used + left out = all."""
    verdict = np.full(size, -1, dtype=np.int64)
    for number, (_, mask) in enumerate(found):
        verdict[(verdict < 0) & mask] = number
    return Sieve(tuple(reason for reason, _ in found), verdict)
