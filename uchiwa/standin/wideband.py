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
        left, mixtures, at = self._left, self._mixture, self._at
        left.append(time)
        mixtures.append(mixture)
        arrives = time - self.d0 - self.k / max(airflow, 0.5)
        last = len(left) - 1
        while at < last and left[at + 1] <= arrives:
            at += 1
        self._at = at
        gas = mixtures[at]
        if at < last and left[at] <= arrives:
            gas += (mixtures[at + 1] - gas) * (arrives - left[at]) / (left[at + 1] - left[at])
        gas = min(max(gas, self.rich_rail), self.lean_rail)
        self.reading += (gas - self.reading) * (1.0 - math.exp(-dt / self.lag))
        return self.lean_rail if time < self.warm_after else self.reading
