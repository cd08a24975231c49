"""Checks of the mixture: the right channel, a warm sensor within its range, and lean moments."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.cars.fuels import FUELS, PETROL_STOICHIOMETRIC
from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.counted import counted
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.log import BoolArray
from uchiwa.core.logs.recognition.plausible import AFR, AFR_PETROL
from uchiwa.core.logs.signal import held, rate, smooth
from uchiwa.core.words.sentence import N_, Sentence

_IDLE_SECONDS = 4.0
_SETTLED_S = 1.5
_LEAN_S = 0.5
_RICH_ENOUGH = 0.92
"""λ at full load that no petrol engine should pass by much; a target of its own goes before it."""
_SNAP = 60.0
_SPIKE_S = 0.3
_OF_ANOTHER = 0.02


def wrong_mixture(it: ExaminedLog) -> Iterator[Finding]:
    """At warm closed-loop idle the measured mixture is not near stoichiometric: wrong channel, or a sensor off its mark."""
    for quantity in ("lambda_measured", "lambda_measured_2"):
        mixture = it.get(quantity)
        if mixture is None:
            continue
        idle = it.during(DriveKind.WARM_IDLE) & it.closed_loop & it.warm & np.isfinite(mixture)
        idle &= ~_cold_sensor(it)
        seconds = float(idle.sum()) * float(np.median(np.diff(it.time)))
        if seconds < _IDLE_SECONDS:
            continue
        middle = float(np.median(mixture[idle]))
        if abs(middle - 1.0) * 100.0 > it.limits.idle_mixture:
            yield Finding(
                "wrong_mixture",
                Severity.CRITICAL,
                Sentence(
                    "At warm idle the mixture should read 1.00 (AFR 14.7 on petrol), and this log shows {middle:.2f}. Either another channel was recorded or the sensor is off: please check which mixture channel the logger records.",
                    middle=middle,
                ),
                f"Median λ {middle:.3f} over {seconds:.0f} s of warm closed-loop idle.{_by_another_ratio(it, quantity, middle)}",
                it.stretches(idle, 1.0, 2.0),
            )


def _by_another_ratio(it: ExaminedLog, quantity: str, middle: float) -> str:
    """Which fuel's air-fuel ratio would make the idle stoichiometric, if the mixture came as one; else empty."""
    if it.log.quantities[quantity].read_as not in (AFR, AFR_PETROL):
        return ""
    petrols = it.log.quantities[quantity].read_as == AFR_PETROL
    taken = PETROL_STOICHIOMETRIC if petrols else it.car.gauge_ratio or it.car.known_fuel.stoichiometric
    for fuel in FUELS.values():
        if abs(middle * taken / fuel.stoichiometric - 1.0) <= _OF_ANOTHER:
            return (
                f" By the ratio of {fuel.title} ({fuel.stoichiometric:.1f} in place of {taken:.1f}) it would be "
                f"{middle * taken / fuel.stoichiometric:.2f}: is that what the gauge shows, or what is in the tank?"
            )
    return ""


def mixture_in_volts(it: ExaminedLog) -> Iterator[Finding]:
    """The mixture came as volts and the sensor's line is not known."""
    if it.get("mixture_voltage") is not None and it.get("lambda_measured") is None and it.car.mixture_line is None:
        yield Finding(
            "mixture_in_volts",
            Severity.CRITICAL,
            N_(
                "The mixture was recorded in volts. Your tuner needs to know which sensor it is; please write its range, for example “0 to 5 V is 10 to 20”."
            ),
            "mixture_voltage without a line: give the sensor's curve in the car file, and this log is read anew.",
        )


def _at_lean_rail(it: ExaminedLog) -> BoolArray:
    mixture = it.get("lambda_measured")
    if mixture is None:
        return np.zeros(it.time.shape, dtype=np.bool_)
    return mixture >= it.limits.lean_rail


def _cold_sensor(it: ExaminedLog) -> BoolArray:
    """The time from the first running sample until the sensor first reads something other than its lean end."""
    mixture = it.get("lambda_measured")
    cold = np.zeros(it.time.shape, dtype=np.bool_)
    if mixture is None or not it.running.any():
        return cold
    reads = np.flatnonzero(it.running & (mixture < it.limits.lean_rail))
    first = int(np.flatnonzero(it.running)[0])
    last = int(reads[0]) if reads.size else it.time.size
    cold[first:last] = True
    return cold


def cold_wideband(it: ExaminedLog) -> Iterator[Finding]:
    """The sensor needs long before it reads anything."""
    cold = _cold_sensor(it)
    stretches = it.stretches(cold, it.limits.wideband_warm)
    if stretches:
        seconds = sum(last - first for first, last in stretches)
        yield Finding(
            "cold_wideband",
            Severity.WARNING,
            Sentence(
                "The mixture sensor was still cold for the first {seconds:.0f} seconds. Please switch it on a minute before you record.",
                seconds=seconds,
            ),
            f"λ at its lean end for {seconds:.0f} s from the first running sample.",
            stretches,
        )


def wideband_rail(it: ExaminedLog) -> Iterator[Finding]:
    """The sensor is at an end of its range while it should read: those samples are lost."""
    mixture = it.get("lambda_measured")
    if mixture is None:
        return
    railed = (mixture <= it.limits.rich_rail) | _at_lean_rail(it)
    railed &= it.running & ~it.overrun & ~_cold_sensor(it) & it.warm
    stretches = it.stretches(railed, it.limits.rail_seconds, 0.5)
    if stretches:
        seconds = sum(last - first for first, last in stretches)
        rich = float((mixture[railed] <= it.limits.rich_rail).mean()) > 0.5
        words = (
            N_(
                "For {seconds:.0f} seconds the mixture was richer than the sensor can measure, or the sensor was in free air. Please check its seat and plug."
            )
            if rich
            else N_(
                "For {seconds:.0f} seconds the mixture was leaner than the sensor can measure, or the sensor was in free air. Please check its seat and plug."
            )
        )
        yield Finding(
            "wideband_rail",
            Severity.WARNING,
            Sentence(words, seconds=seconds),
            f"λ at its {'rich' if rich else 'lean'} end for {seconds:.0f} s outside overrun.",
            stretches,
        )


def lean_at_load(it: ExaminedLog) -> Iterator[Finding]:
    """Full load leaner than commanded, on either bank; without a logged target, leaner than any engine is run there."""
    banks = [one for one in (it.get("lambda_measured"), it.get("lambda_measured_2")) if one is not None]
    if not banks:
        return
    target = it.get("lambda_target")
    settled = it.load & ~held(it.time, ~it.load, _SETTLED_S) & it.running & ~it.overrun
    wanted = np.where(target < 1.02, target, np.nan) if target is not None else np.full(it.time.shape, _RICH_ENOUGH)
    worst, lean = 0.0, np.zeros(it.time.shape, dtype=np.bool_)
    for mixture in banks:
        error = smooth(it.time, mixture / wanted - 1.0, 0.5) * 100.0
        here = settled & (error > it.limits.lean_at_load)
        if it.stretches(here, _LEAN_S):
            lean |= here
            worst = max(worst, float(np.nanmax(error[here])))
    stretches = it.stretches(lean, _LEAN_S)
    if stretches:
        said = "above target" if target is not None else f"above λ {_RICH_ENOUGH:g}, for no target was recorded,"
        yield Finding(
            "lean_at_load",
            Severity.CRITICAL,
            N_(
                "At full throttle the mixture was leaner than it should be. Please do not use full throttle again until you have a new calibration."
            ),
            f"λ up to {worst:.1f} % {said} at full load.",
            stretches,
        )


def lean_tip_in(it: ExaminedLog) -> Iterator[Finding]:
    """A lean spike when the throttle opens."""
    mixture, throttle = it.get("lambda_measured"), it.get("throttle_position")
    if mixture is None or throttle is None:
        return
    opened = held(it.time, rate(it.time, throttle) > _SNAP, 1.2)
    target = it.get("lambda_target")
    error = (mixture / (target if target is not None else 1.0) - 1.0) * 100.0
    spike = opened & (error > it.limits.lean_tip_in) & it.warm & it.running & ~it.overrun & ~_at_lean_rail_before(it)
    stretches = it.stretches(spike, _SPIKE_S, 0.1)
    if stretches:
        yield Finding(
            "lean_tip_in",
            Severity.WARNING,
            N_(
                "When you open the throttle the mixture goes lean for a moment. That is for your tuner to put right; you need not record again."
            ),
            f"{counted(len(stretches), 'lean spike')} of up to {float(np.nanmax(error[spike])):.0f} % within 1.2 s of opening the throttle.",
            stretches,
        )


def _at_lean_rail_before(it: ExaminedLog) -> BoolArray:
    """Where the sensor was at its lean end two seconds before, as after a fuel cut."""
    lean = _at_lean_rail(it)
    rest = it.get("throttle_position")
    closed = lean & (rest < 3.0) if rest is not None else lean
    return held(it.time, closed, 2.0)


CHECKS = (wrong_mixture, mixture_in_volts, cold_wideband, wideband_rail, lean_at_load, lean_tip_in)
