"""The linear system of a surface: what samples say, what is believed before any, and the bend they speak most for."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.bordered import Factor, band_of, factored
from uchiwa.core.logs.log import FloatArray

PULL = 0.20
"""How far from "no change" a cell without any evidence is expected to lie, as a fraction (one standard deviation)."""
BENDS = (0.0005, 0.2)
"""Range in which the expected bend between neighbouring cells is sought, as a fraction."""
_NO_LEVEL = 1e-4


@dataclass(frozen=True, eq=False)
class System:
    """What the samples say, and what is believed before any sample: cells near "no change", little bent.

    Attributes:
        band, border, corner: of the samples' precision; see `bordered`.
        right: its right side.
        penalty: the band of the squared second differences.
        eigenvalues: of them.
        offset: standard deviation with which a log may lie off the others.
    """

    band: FloatArray
    border: FloatArray
    corner: FloatArray
    right: FloatArray
    penalty: FloatArray
    eigenvalues: FloatArray
    offset: float

    def factor(self, bend: float) -> Factor:
        """Of the whole precision under a bend."""
        band = self.band + self.penalty / bend**2
        band[:, 0] += 1 / PULL**2
        logs = self.corner.shape[0]
        # What all logs have in common belongs to the surface: of the offsets only their differences are free.
        prior = np.eye(logs) / self.offset**2 + np.ones((logs, logs)) / max(logs, 1) / _NO_LEVEL**2
        return factored(band, self.border, self.corner + prior)

    def log_evidence(self, bend: float) -> float:
        """Logarithm of the marginal likelihood of the samples, up to a constant."""
        factor = self.factor(bend)
        before = float(np.log(np.maximum(self.eigenvalues, 0.0) / bend**2 + 1 / PULL**2).sum())
        return (before - factor.log_determinant + factor.squared(self.right)) / 2

    def likeliest_bend(self) -> float:
        """The bend for which the samples speak most: a coarse search, then a finer one, on a logarithmic scale."""
        low, high = (float(np.log(bend)) for bend in BENDS)
        tried: dict[float, float] = {}
        grid = np.linspace(low, high, 8)
        for _ in range(2):
            for one in grid.tolist():
                tried.setdefault(one, self.log_evidence(float(np.exp(one))))
            best = max(tried, key=lambda one: tried[one])
            step = (grid[1] - grid[0]) / 3
            grid = np.clip(best + step * np.array([-2.0, -1.0, 1.0, 2.0]), low, high)
        return float(np.exp(max(tried, key=lambda one: tried[one])))


def system_of(
    penalty: FloatArray, eigenvalues: FloatArray, matrix: FloatArray, right: FloatArray, offset: float
) -> System:
    nodes, width = penalty.shape[0], penalty.shape[1] - 1
    band = band_of(matrix[:nodes, :nodes], width)
    return System(band, matrix[:nodes, nodes:], matrix[nodes:, nodes:], right, penalty, eigenvalues, offset)
