"""Which moments of a log the sieve lets through."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray


def used_at(sample_time: FloatArray, used: BoolArray, time: FloatArray) -> BoolArray:
    """Whether the evidence sample nearest to each moment is used; False where none is near.

    Near is within one and a half of the samples' usual step.

    Args:
        sample_time: of the evidence samples of one log, rising, s; shape (n,).
        used: shape (n,).
        time: moments, s; shape (m,).

    Returns:
        Shape (m,).
    """
    if not sample_time.size:
        return np.zeros(time.shape, dtype=np.bool_)
    after = np.clip(np.searchsorted(sample_time, time), 0, sample_time.size - 1)
    before = np.maximum(after - 1, 0)
    nearest = np.where(np.abs(sample_time[before] - time) < np.abs(sample_time[after] - time), before, after)
    step = float(np.median(np.diff(sample_time))) if sample_time.size > 1 else 0.0
    near = np.abs(sample_time[nearest] - time) <= 1.5 * step + 1e-9
    return np.asarray(used[nearest] & near)
