"""An airflow meter's curve stays rising, whatever is corrected."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

_HALVINGS = 40


def rising(before: FloatArray, after: FloatArray, firm: BoolArray, step: float) -> FloatArray:
    """A corrected curve that still rises: where it does not, the changes that meet there are taken back by halves.

    No point is moved beyond its change, nor against it. Of two points that meet the one that is not `firm` gives way
    first; what no halving mends is taken back whole, for the curve rose before.

    Args:
        before: as it was, rising; shape (n,).
        after: as proposed; shape (n,).
        firm: points with evidence of their own; shape (n,).
        step: least rise between neighbours, where the curve rose by as much before.
    """
    least = np.minimum(step, np.diff(before)) * (1.0 - 1e-9)
    result = after.astype(np.float64).copy()
    for number in range(2 * _HALVINGS):
        falls = np.flatnonzero(np.diff(result) < least)
        if falls.size == 0:
            return result
        meet = np.zeros(before.shape, dtype=np.bool_)
        meet[falls] = meet[falls + 1] = True
        changed = result != before
        soft = meet & changed & ~firm
        # A firm point gives way only where its partner has nothing left to give.
        alone = np.zeros(before.shape, dtype=np.bool_)
        for at in falls.tolist():
            if not soft[at] and not soft[at + 1]:
                alone[at] = alone[at + 1] = True
        gives = (soft | alone) & changed
        kept = 0.5 if number < _HALVINGS else 0.0
        shrunk = before + (result - before) * kept
        result = np.where(gives, np.where(np.abs(shrunk - before) < step * 1e-3, before, shrunk), result)
    return before.astype(np.float64).copy()
