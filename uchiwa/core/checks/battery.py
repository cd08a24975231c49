"""Battery voltage that jitters."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.logs.signal import smooth
from uchiwa.core.words.sentence import N_


def battery_jitter(it: ExaminedLog) -> Iterator[Finding]:
    """Battery voltage that jumps about: ground or charging."""
    volts = it.get("battery_voltage")
    if volts is None:
        return
    settled = it.running & (it.time > it.time[0] + 5.0)
    jumps = np.abs(volts - smooth(it.time, volts, 1.0))
    jitter = smooth(it.time, jumps, 2.0)
    stretches = it.stretches(settled & (jitter > it.limits.battery_jitter), 1.0, 2.0)
    if stretches:
        yield Finding(
            "battery_jitter",
            Severity.WARNING,
            N_(
                "The battery voltage jumps about. Please check the ground straps and the alternator before the next drive."
            ),
            f"Battery voltage jitters by {float(np.nanmax(jitter[settled])):.2f} V on average.",
            stretches,
        )
