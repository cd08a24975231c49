"""Which of several pulls was the strongest, and by how much one is stronger than another: where both were."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray

_FEWEST_SPEEDS = 5
_SHARE_OF_WIDEST = 0.5


def strongest(torque: FloatArray) -> int | None:
    """The pull that lies highest above the middle one of those that were at the same speed, on average over its speeds.

    So a short pull about the peak of torque does not win by having left out the rest. Pulls that cover less than half of what
    the widest covers are not asked.

    Args:
        torque: of each pull on one grid of engine speed, NaN where it was not; shape (pulls, m).

    Returns:
        Its number; None if no pull has torque.
    """
    covered = np.isfinite(torque).sum(axis=1)
    if not covered.size or not covered.max():
        return None
    there = np.isfinite(torque).any(axis=0)
    middle = np.full(torque.shape[1], np.nan)
    middle[there] = np.nanmedian(torque[:, there], axis=0)
    wide = np.flatnonzero(covered >= _SHARE_OF_WIDEST * covered.max())
    above = np.nanmean(torque[wide] - middle, axis=1)
    return int(wide[above.argmax()])


def mean_gain_percent(before: FloatArray, now: FloatArray) -> float | None:
    """How much stronger a pull is than another, mean over the speeds at which both were, %; None at fewer than five.

    Args:
        before, now: torque on the same engine speeds, NaN where a pull was not; shape (m,).
    """
    both = np.isfinite(before) & np.isfinite(now) & (before > 0)
    return float(np.mean(now[both] / before[both] - 1.0) * 100.0) if both.sum() >= _FEWEST_SPEEDS else None
