"""The wideband sensor: gas transport, lag, noise and rails."""

from __future__ import annotations

import math
from dataclasses import dataclass, field


@dataclass
class Wideband:
    """Reads λ after a transport delay of d0 + k / airflow and a first-order lag.

    Attributes:
        d0: fixed part of the delay, s.
        k: gas volume part of the delay, g.
        lag: time constant of the sensor, s.
        rich_rail, lean_rail: ends of its range, λ.
        warm_after: seconds until it is hot enough; before, it reads the lean rail.
    """

    d0: float = 0.05
    k: float = 1.6
    lag: float = 0.06
    rich_rail: float = 0.68
    lean_rail: float = 1.36
    warm_after: float = 8.0
    reading: float = 1.0
    _left: list[float] = field(default_factory=list)
    _mixture: list[float] = field(default_factory=list)
    _at: int = 0

    def step(self, time: float, mixture: float, airflow: float, dt: float) -> float:
        """The reading at `time` without noise, given what leaves the cylinders now."""
        self._left.append(time)
        self._mixture.append(mixture)
        arrives = time - self.d0 - self.k / max(airflow, 0.5)
        while self._at + 1 < len(self._left) and self._left[self._at + 1] <= arrives:
            self._at += 1
        gas = self._mixture[self._at]
        if self._at + 1 < len(self._left) and self._left[self._at] <= arrives:
            span = self._left[self._at + 1] - self._left[self._at]
            gas += (self._mixture[self._at + 1] - gas) * (arrives - self._left[self._at]) / span
        gas = min(max(gas, self.rich_rail), self.lean_rail)
        self.reading += (gas - self.reading) * (1.0 - math.exp(-dt / self.lag))
        return self.lean_rail if time < self.warm_after else self.reading
