"""The injectors came near their end."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.words.sentence import N_


def injector_duty(it: ExaminedLog) -> Iterator[Finding]:
    """Injectors near the end of what they can deliver."""
    duty = it.get("injector_duty")
    pulse = it.get("injector_pulse")
    if duty is None and pulse is not None:
        duty = pulse * it.signals["engine_speed"] / 1200.0
    if duty is None:
        return
    high = it.stretches(it.running & (duty >= it.limits.duty_warn), 0.2)
    if not high:
        return
    most = float(np.nanmax(duty[it.running]))
    critical = bool(it.stretches(it.running & (duty >= it.limits.duty_critical), 0.2))
    yield Finding(
        "injector_duty",
        Severity.CRITICAL if critical else Severity.WARNING,
        N_(
            "The injectors are at the end of what they can deliver. Please stay away from full throttle until your tuner has answered."
        )
        if critical
        else N_(
            "The injectors come near the end of what they can deliver at full throttle. Your tuner will look at it."
        ),
        f"Injector duty up to {most:.0f} %.",
        high,
    )
