"""An airflow meter's curve stays rising, whatever is corrected."""

from __future__ import annotations

import numpy as np

from uchiwa.core.log import BoolArray, FloatArray


def rising(values: FloatArray, weight: FloatArray, held: BoolArray, step: float) -> FloatArray:
    """The nearest curve that rises by at least `step` from point to point, held points staying where they are.

    Weighted least squares by pooling neighbours that fall (Ayer et al., *Ann. Math. Stat.* 26, 1955), on the values
    less `step` times their number. A held point that leaves its neighbours no room keeps its value, and they give way
    as far as they can.

    Args:
        values: shape (n,).
        weight: how little each may be moved, over 0; shape (n,).
        held: which must not move; shape (n,).
        step: least rise between neighbours, in the values' unit.
    """
    ramp = step * np.arange(values.size)
    level = values - ramp
    strength = np.where(held, 1e12, np.maximum(weight, 1e-9))
    means: list[float] = []
    weights: list[float] = []
    counts: list[int] = []
    for value, w in zip(level.tolist(), strength.tolist(), strict=True):
        means.append(value)
        weights.append(w)
        counts.append(1)
        while len(means) > 1 and means[-2] > means[-1]:
            whole = weights[-2] + weights[-1]
            pooled = (means[-2] * weights[-2] + means[-1] * weights[-1]) / whole
            count = counts[-2] + counts[-1]
            del means[-1], weights[-1], counts[-1]
            means[-1], weights[-1], counts[-1] = pooled, whole, count
    result = np.repeat(means, counts) + ramp
    return np.where(held, values, result)
