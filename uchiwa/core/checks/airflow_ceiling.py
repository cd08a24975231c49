"""The airflow meter reached its end."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.words.sentence import N_


def airflow_ceiling(it: ExaminedLog) -> Iterator[Finding]:
    """The airflow meter is at its end."""
    volts = it.get("airflow_voltage")
    if volts is not None:
        stretches = it.stretches(volts >= it.limits.meter_volts, 0.2)
        if stretches:
            yield _ceiling(f"{np.nanmax(volts):.2f} V, ceiling from {it.limits.meter_volts:g} V", stretches)
            return
    for quantity in ("airflow_frequency", "airflow"):
        values = it.get(quantity)
        if values is None:
            continue
        top = float(np.nanmax(values))
        flat = it.stretches(it.running & (values >= top * (1 - 1e-9)), it.limits.flat_top, 0.0)
        if flat:
            yield _ceiling(f"{quantity} is flat at {top:.5g}", flat)
            return


def _ceiling(said: str, stretches: tuple[tuple[float, float], ...]) -> Finding:
    return Finding(
        "airflow_ceiling",
        Severity.WARNING,
        N_(
            "The airflow meter was at the end of its range at full throttle. That is for your tuner; you need not record again."
        ),
        f"Airflow meter at its ceiling: {said}.",
        stretches,
    )
