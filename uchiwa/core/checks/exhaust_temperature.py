"""The exhaust grew too hot."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.words.sentence import N_


def exhaust_hot(it: ExaminedLog) -> Iterator[Finding]:
    """Exhaust gas hotter than turbine, valves and catalyst stand."""
    exhaust = it.get("exhaust_temperature")
    if exhaust is None:
        return
    hot = it.running & (exhaust >= it.limits.exhaust_hot)
    stretches = it.stretches(hot, it.limits.exhaust_seconds, 0.5)
    if stretches:
        yield Finding(
            "exhaust_hot",
            Severity.CRITICAL,
            N_(
                "The exhaust gets too hot at full throttle. Please use no full throttle until you have a new calibration."
            ),
            f"Exhaust gas up to {float(np.nanmax(exhaust[hot])):.0f} °C, {sum(b - a for a, b in stretches):.0f} s from {it.limits.exhaust_hot:g} °C: too little spark or too lean.",
            stretches,
        )
