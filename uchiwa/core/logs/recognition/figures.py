"""What is asked of a channel's readings under one unit, each figure worked out once however many combinations ask for it."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.recognition.plausible import middle

_FEWEST = 10


class Figures:
    """Figures of some readings.

    Args:
        values: readings in the canonical unit, NaN without one; shape (n,).
    """

    def __init__(self, values: FloatArray) -> None:
        self.values = values
        self._medians: dict[int, tuple[BoolArray, float]] = {}
        self._running: dict[int, tuple[BoolArray, tuple[float, float] | None]] = {}

    @cached_property
    def finite(self) -> FloatArray:
        """Those that are readings; shape (m,)."""
        return self.values[np.isfinite(self.values)]

    @cached_property
    def middle(self) -> tuple[float, float] | None:
        """The 2 % and 98 % quantiles; None without readings."""
        return middle(self.values)

    @cached_property
    def most(self) -> tuple[float, float] | None:
        """The 10 % and 90 % quantiles; None without readings."""
        if self.finite.size == 0:
            return None
        low, high = np.quantile(self.finite, (0.1, 0.9))
        return float(low), float(high)

    @cached_property
    def median(self) -> float:
        """The median; NaN without readings."""
        return float(np.median(self.finite)) if self.finite.size else float("nan")

    @cached_property
    def spread(self) -> float:
        """The standard deviation; NaN without readings."""
        return float(np.std(self.finite)) if self.finite.size else float("nan")

    @cached_property
    def highest(self) -> float:
        """The greatest; NaN without readings."""
        return float(self.finite.max()) if self.finite.size else float("nan")

    def median_where(self, where: BoolArray | None) -> float:
        """The median where a mask holds; NaN for fewer than ten readings there, or without a mask."""
        if where is None:
            return float("nan")
        known = self._medians.get(id(where))
        if known is None or known[0] is not where:
            there = self.values[where]
            there = there[np.isfinite(there)]
            known = self._medians[id(where)] = (
                where,
                float(np.median(there)) if there.size >= _FEWEST else float("nan"),
            )
        return known[1]

    def running(self, off: BoolArray) -> tuple[float, float] | None:
        """The greatest reading and the 98 % quantile where the engine does not stand; None without any."""
        known = self._running.get(id(off))
        if known is None or known[0] is not off:
            there = self.values[~off]
            there = there[np.isfinite(there)]
            figures = None if there.size == 0 else (float(there.max()), float(np.quantile(there, 0.98)))
            known = self._running[id(off)] = (off, figures)
        return known[1]
