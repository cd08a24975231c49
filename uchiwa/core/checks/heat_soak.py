"""Heat soak: intake air heated by a standing car."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.words.sentence import N_

_HOT_AIR = 58.0


def heat_soaked(it: ExaminedLog) -> Iterator[Finding]:
    """Intake air well above the air outside."""
    air = it.get("intake_air_temperature")
    if air is None:
        return
    known = QUANTITIES["intake_air_temperature"]
    air = np.where((air >= known.low) & (air <= known.high), air, np.nan)
    throttle = it.get("throttle_position")
    calm = np.ones(it.time.shape, dtype=np.bool_) if throttle is None else throttle < 40.0
    outside = float(np.nanquantile(air, 0.03))
    soaked = it.running & calm & ((air > outside + it.limits.soaked_above) | (air > _HOT_AIR))
    stretches = it.stretches(soaked, it.limits.soaked_seconds, 5.0)
    if stretches:
        yield Finding(
            "heat_soaked",
            Severity.WARNING,
            N_(
                "The intake was heat-soaked, as after standing with a hot engine. Please drive for two minutes before you record."
            ),
            f"Intake air up to {np.nanmax(air[soaked]):.0f} °C, {sum(b - a for a, b in stretches):.0f} s more than {it.limits.soaked_above:g} °C above {outside:.0f} °C.",
            stretches,
        )
