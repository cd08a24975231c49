"""How many digits after the point a value is shown with, so that figures under each other line up."""

from __future__ import annotations

import math

_BY_UNIT = {
    "rpm": 0, "km/h": 1, "%": 1, "kPa": 1, "g/s": 2, "Hz": 1, "V": 3, "g": 3, "degC": 1, "ms": 3, "deg": 1, "Nm": 0,
    "kW": 1, "m/s²": 2,
}  # fmt: skip
_WHOLE = frozenset(
    {"loop_state", "knock_count", "low_octane_flag", "in_gear", "gear", "after_start_active", "overrun_cut_active", "marker"}
)  # fmt: skip
_SIGNIFICANT = 4


def digits(key: str, unit: str, low: float | None, high: float | None) -> int:
    """Digits after the point for a trace.

    Args:
        key: of the trace.
        unit: of its values.
        low, high: the range of its values, for units that say nothing.
    """
    if key in _WHOLE:
        return 0
    if unit in _BY_UNIT:
        return _BY_UNIT[unit]
    if unit == "1" and key in ("afr_measured", "afr_target", "stoichiometric_ratio"):
        return 2
    largest = max(abs(low or 0.0), abs(high or 0.0))
    if unit == "1" and largest < 100:
        return 3
    if not math.isfinite(largest) or largest == 0:
        return 2
    return max(0, min(6, _SIGNIFICANT - 1 - math.floor(math.log10(largest))))
