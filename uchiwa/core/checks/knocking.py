"""Knock, learned retard, and tables for poor fuel."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.counted import counted
from uchiwa.core.knock.retard import LEARNED, degrees_out
from uchiwa.core.logs.signal import durations
from uchiwa.core.words.sentence import N_


def knock(it: ExaminedLog) -> Iterator[Finding]:
    """Repeated or strong knock, by retard of either sign, or by a count that grows; a single small event may be noise."""
    taken, count = it.get("knock_retard"), it.get("knock_count")
    retard = np.zeros(it.time.shape) if taken is None else np.nan_to_num(degrees_out(taken))
    active = it.running & (retard >= it.limits.knock_degrees)
    by_count = not active.any() and count is not None
    if by_count and count is not None:
        active = it.running & (np.diff(count, prepend=count[:1]) > 0)
    events = it.stretches(active, 0.0, 0.4)
    if not events:
        return
    worst = float(np.max(retard[active]))
    how = "by the controller's count, without retard" if by_count else f"worst {worst:.1f}°"
    if len(events) >= it.limits.knock_events or worst >= it.limits.knock_severe:
        yield Finding(
            "knock_repeated",
            Severity.CRITICAL if worst >= it.limits.knock_severe else Severity.WARNING,
            N_(
                "The engine knocked several times. Please use no full throttle until you have a new calibration, and check that the right fuel is in the tank."
            ),
            f"{counted(len(events), 'knock event')}, {how}.",
            events,
        )
    else:
        yield Finding(
            "knock_single",
            Severity.NOTE,
            N_("The knock sensor spoke up once or twice, which may be noise. You need not do anything."),
            f"{counted(len(events), 'isolated knock event')}, {how}: may be phantom.",
            events,
        )


def learned_retard(it: ExaminedLog) -> Iterator[Finding]:
    """The controller has learned to hold spark back: it has knocked there before, and still does what it learned."""
    learned = it.get(LEARNED)
    if learned is None:
        return
    stretches = it.stretches(it.running & (np.nan_to_num(learned) >= it.limits.knock_degrees), 0.0, 1.0)
    if stretches:
        yield Finding(
            "learned_retard",
            Severity.WARNING,
            N_(
                "The engine has knocked before, and its controller remembers it. Please clear what it has learned when you flash the next calibration."
            ),
            f"Learned knock retard up to {float(np.nanmax(learned)):.1f}°: what was fired is not the table's spark.",
            stretches,
        )


def low_octane(it: ExaminedLog) -> Iterator[Finding]:
    """The controller has given up on knock and runs its mild spark map."""
    flag = it.get("low_octane_flag")
    if flag is not None and (flag > 0.5).any():
        yield Finding(
            "low_octane",
            Severity.CRITICAL,
            N_(
                "The engine has gone to its safe ignition for poor fuel. Please check the fuel, and send no full-throttle logs until your tuner has answered."
            ),
            f"Low-octane fallback set for {float(durations(it.time)[flag > 0.5].sum()):.0f} s.",
            it.stretches(flag > 0.5),
        )
