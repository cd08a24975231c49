"""Fuel pressure that falls under load."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.words.sentence import N_


def fuel_pressure(it: ExaminedLog) -> Iterator[Finding]:
    """Fuel pressure that falls under load."""
    pressure = it.get("fuel_pressure")
    if pressure is None or not (it.load & it.running).any():
        return
    calm = it.running & ~it.load
    if not calm.any():
        return
    usual = float(np.nanmedian(pressure[calm]))
    fallen = it.load & it.running & (pressure < usual * (1.0 - it.limits.fuel_pressure_drop / 100.0))
    stretches = it.stretches(fallen, 0.3)
    if stretches:
        yield Finding(
            "fuel_pressure",
            Severity.CRITICAL,
            N_(
                "The fuel pressure falls at full throttle. Please use no full throttle, and have pump and filter looked at."
            ),
            f"Fuel pressure {float(np.nanmin(pressure[fallen])):.0f} kPa under load against {usual:.0f} kPa.",
            stretches,
        )
