"""Round numbers for axes: the one algorithm of all pictures."""

from __future__ import annotations

import math

_STEPS = (1.0, 2.0, 2.5, 5.0, 10.0)


def nice_step(least: float) -> float:
    """The smallest of 1, 2, 2.5 or 5 times a power of ten that is not below `least`, which is positive."""
    power = 10.0 ** math.floor(math.log10(least))
    return next(step * power for step in _STEPS if step * power >= least * 0.999)


def nice_ticks(low: float, high: float, about: int) -> list[float]:
    """Round numbers from `low` to `high`, at most about so many of them, 2 or more."""
    step = nice_step(max(high - low, 1e-9) / about)
    first = math.ceil(low / step - 1e-9)
    last = math.floor(high / step + 1e-9)
    return [round(number * step, 10) + 0.0 for number in range(first, last + 1)]


def decimals_of(step: float) -> int:
    """Digits after the point that tell ticks of a step apart."""
    for digits in range(9):
        if math.isclose(round(step, digits), step, rel_tol=1e-6):
            return digits
    return 9


def number_text(value: float) -> str:
    """A tick as text, with a true minus and no negative zero."""
    return f"{value + 0.0:.10g}".replace("-", "−")
