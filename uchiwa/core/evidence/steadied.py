"""Where the engine was, freed of the noise of the channels that tell it."""

from __future__ import annotations

import numpy as np

from uchiwa.core.evidence import kernels
from uchiwa.core.evidence.quantisation import quantum
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.signal import noise_of

_HALVES_S = np.array([0.06, 0.12, 0.25, 0.5, 0.8])
_REACH = 2.0
"""Standard deviations by which means of wider and wider windows may differ and still be of one and the same reading."""


def steadied(time: FloatArray, values: FloatArray) -> FloatArray:
    """Readings as means over as long a time around them as nothing but noise moves them.

    A sensor's noise scatters samples of one and the same operating point over neighbouring cells, which then seem to have
    been visited, and lends a surface a lever that is not there. Of centred windows from 0.1 to 1.6 s the widest is taken
    whose mean, and those of all narrower ones, lie in a common interval of two of their standard deviations (the
    intersection of confidence intervals; A. Goldenshluger and A. Nemirovski, *Mathematical Methods of Statistics* 6, 1997):
    what moves by more than its noise is read over a tenth of a second at most.

    Args:
        time: s, rising; shape (n,).
        values: shape (n,); NaN stays.
    """
    sigma = max(noise_of(values), quantum(values) / np.sqrt(12.0))
    if sigma <= 0 or time.size < 5:
        return values
    known = np.isfinite(values)
    total = np.concatenate(([0.0], np.cumsum(np.where(known, values, 0.0))))
    count = np.concatenate(([0.0], np.cumsum(known, dtype=np.float64)))
    at = kernels.read_only(time)
    means = kernels.in_parts(
        time.size,
        lambda begin, end: kernels.widest_means(at, total, count, _HALVES_S, _REACH * sigma, begin, end),
    )
    mean = np.concatenate(means)
    return np.where(known & np.isfinite(mean), mean, values)
