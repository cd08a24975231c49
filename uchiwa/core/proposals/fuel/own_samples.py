"""Which way a cell's own samples point: nothing moves a cell against them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

_NOTHING = 1e-9


@dataclass(frozen=True, eq=False)
class Direction:
    """What a cell's own samples allow; arrays of shape (rows, columns).

    A cell without any sample may go either way; one whose samples disagree, by which of them are counted, neither.

    Attributes:
        may_rise: whether the factor may exceed 1 (more fuel).
        may_fall: whether it may lie below 1.
    """

    may_rise: BoolArray
    may_fall: BoolArray

    def held(self, factor: FloatArray) -> FloatArray:
        """Factors, those that go against a cell's own samples put back to 1."""
        rises: FloatArray = np.where(self.may_rise, factor, np.minimum(factor, 1.0))
        return np.where(self.may_fall, rises, np.maximum(rises, 1.0))

    def against(self, factor: FloatArray) -> BoolArray:
        """Where factors go against a cell's own samples."""
        wrong: BoolArray = (~self.may_rise & (factor > 1.0 + _NOTHING)) | (~self.may_fall & (factor < 1.0 - _NOTHING))
        return wrong


def direction(means: Sequence[FloatArray], bias: float = 0.0) -> Direction:
    """What the means of a cell's samples allow.

    Args:
        means: error factors of the samples, by each way of sharing them among cells; NaN where there are none; each of
            shape (rows, columns).
        bias: by how much richer than the samples ask for the table is to be, as a fraction. It may enrich a cell that
            is a little rich; a negative one never leans a cell that its samples call lean.
    """
    rise = np.ones(means[0].shape, dtype=np.bool_)
    fall = rise.copy()
    for mean in means:
        known = np.isfinite(mean)
        aimed = mean * (1.0 + bias)
        rise &= ~known | (aimed > 1.0 + _NOTHING)
        fall &= ~known | ((aimed < 1.0 - _NOTHING) & (mean < 1.0 - _NOTHING))
    return Direction(rise, fall)
