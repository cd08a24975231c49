"""The steps in which a channel comes."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray

_LOOKED_AT = 20_000
_FEWEST = 4


def quantum(values: FloatArray) -> float:
    """The usual least step between different readings, in their unit; 0 where they are too few or too fine to tell.

    A channel in which most readings differ from all others is not quantised as far as anybody could tell.
    """
    finite = values[: _LOOKED_AT * 4 : max(1, min(values.size // _LOOKED_AT, 4))]
    finite = finite[np.isfinite(finite)]
    different = np.unique(np.round(finite, 7))
    if different.size < _FEWEST or different.size > 0.5 * finite.size:
        return 0.0
    return float(np.quantile(np.diff(different), 0.25))
