"""The engine was cold in a drive that wants it warm."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.signal import durations
from uchiwa.core.words.sentence import Sentence

_WARMING = (DriveKind.WARM_UP, DriveKind.IN_GEAR_WARM_UP)
_MOSTLY = 0.8


def cold_engine(it: ExaminedLog) -> Iterator[Finding]:
    """The coolant is below operating temperature for much of a log that is not a cold start."""
    coolant = it.get("coolant_temperature")
    if coolant is None or (any(drive.kind is DriveKind.COLD_START for drive in it.drives) and it.time[-1] < 400):
        return
    if any(drive.kind in _WARMING and drive.seconds >= _MOSTLY * it.time[-1] for drive in it.drives):
        return
    span = durations(it.time)
    total = float(span[it.running].sum())
    cold = it.running & (coolant < it.limits.warm_coolant)
    seconds = float(span[cold].sum())
    if total <= 0 or 100.0 * seconds / total <= it.limits.cold_share:
        return
    warm = total - seconds
    words = (
        Sentence(
            "The engine was still cold all the time. Please drive until it is warm (about 10 minutes), then record again."
        )
        if warm < 5
        else Sentence(
            "The engine was still cold for all but {warm:.0f} s. Please drive until it is warm (about 10 minutes), then record again.",
            warm=warm,
        )
    )
    yield Finding(
        "cold_engine",
        Severity.CRITICAL if warm < 0.5 * total else Severity.WARNING,
        words,
        f"Coolant {np.nanmin(coolant):.0f} to {np.nanmax(coolant):.0f} °C, below {it.limits.warm_coolant:g} °C for {seconds:.0f} of {total:.0f} s.",
        it.stretches(cold, 1.0, 2.0),
    )
