"""Stretches of logs that are set aside in turn, to see whether what was estimated from the others predicts them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.kernels import left_out_sums
from uchiwa.core.logs.log import FloatArray, IntArray

LEAST_S = 6.0
WANTED = 40
FEWEST = 6
SURE = 2.0
"""Standard errors by which a prediction must gain before what it rests on is used."""


def stretches_of(time: FloatArray, first: int = 0) -> IntArray:
    """Number of the stretch each sample lies in: some forty of equal length, none shorter than six seconds.

    Args:
        time: s, rising; shape (n,).
        first: number of the first.
    """
    if time.size == 0:
        return np.zeros(0, dtype=np.int64)
    seconds = max(float(time[-1] - time[0]) / WANTED, LEAST_S)
    number: IntArray = first + ((time - time[0]) / seconds).astype(np.int64)
    return number


@dataclass(frozen=True)
class Gain:
    """What a correction gains on stretches that were kept aside.

    Attributes:
        share: of their squared error that it removes; below 0 if it adds to it.
        error: standard error of that.
        stretches: number of them.
    """

    share: float
    error: float
    stretches: int

    @property
    def sure(self) -> bool:
        """Whether it gains more than chance explains."""
        return self.stretches >= FEWEST and self.share > SURE * self.error


NO_GAIN = Gain(0.0, 0.0, 0)


def gain(before: FloatArray, after: FloatArray) -> Gain:
    """The gain from squared errors of each stretch without and with a correction; shape (stretches,)."""
    whole = float(before.sum())
    if before.size < 2 or whole <= 0:
        return NO_GAIN
    saved = before - after
    error = float(np.sqrt(saved.size * np.var(saved, ddof=1)))
    return Gain(float(saved.sum()) / whole, error / whole, int(saved.size))


@dataclass(frozen=True, eq=False)
class StretchSums:
    """Sums over the samples of each stretch and cell, of a value v and of a signal f that may explain it.

    Attributes:
        data: n, Σv, Σv², Σf, Σf², Σvf; shape (stretches, cells, 6).
    """

    data: FloatArray

    def left_out(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Of each stretch: Σ(v − v̄)², Σ(v − v̄)(f − f̄), Σ(f − f̄)², means being those of the cell in all other stretches.

        Cells that only one stretch visited do not count; shape (stretches,) each.
        """
        a, b, c = np.zeros((3, self.data.shape[0]))
        left_out_sums(self.data, self.data.sum(axis=0), a, b, c)
        return a, b, c

    def visit_means(self) -> tuple[FloatArray, FloatArray, FloatArray]:
        """The same of each stretch's means in its cells, each weighing as its samples do, at most as fifty."""
        n, v, _, f, _, _ = np.moveaxis(self.data, -1, 0)
        total = self.data.sum(axis=0)
        others = total[:, 0][None] - n
        use = (n > 0) & (others > 0)
        with np.errstate(invalid="ignore", divide="ignore"):
            dv = v / n - (total[:, 1][None] - v) / others
            df = f / n - (total[:, 3][None] - f) / others
        weight = np.where(use, np.minimum(n, 50.0), 0.0)
        dv, df = np.where(use, dv, 0.0), np.where(use, df, 0.0)
        return (weight * dv**2).sum(axis=1), (weight * dv * df).sum(axis=1), (weight * df**2).sum(axis=1)


@dataclass(frozen=True)
class Slope:
    """How strongly a signal shows in a value, within cells.

    Attributes:
        slope: value per unit of the signal.
        error: standard error of it, from how it differs when stretches are left out.
        gain: of predicting the samples of stretches kept aside.
        visits: of predicting the means of their single visits to cells, which is what a correction rests on.
    """

    slope: float
    error: float
    gain: Gain
    visits: Gain


def slope_of(sums: StretchSums) -> Slope:
    """The slope of the value on the signal within cells, judged on stretches left out one by one."""
    a, b, c = sums.left_out()
    whole = float(c.sum())
    if whole <= 0:
        return Slope(0.0, 0.0, NO_GAIN, NO_GAIN)
    without = np.maximum(whole - c, 1e-300)
    others = (float(b.sum()) - b) / without
    slope = float(b.sum()) / whole
    count = others.size
    error = float(np.sqrt((count - 1) / count * ((others - others.mean()) ** 2).sum())) if count > 1 else 0.0
    va, vb, vc = sums.visit_means()
    samples, visits = gain(a, a - 2 * others * b + others**2 * c), gain(va, va - 2 * others * vb + others**2 * vc)
    return Slope(slope, error, samples, visits)
