"""What the residuals of a surface say of its samples: how far they scatter where, and how many are worth one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence import kernels, surface_kernels
from uchiwa.core.logs.log import FloatArray, IntArray

HUBER = 1.345
LEAST_SPREAD = 1e-5
_LONGEST_LAG = 400
_LAGS_PER_S = 10.0
_FEWEST = 200
_FEWEST_VISITS = 8
_MOST_BEYOND = 10.0
_LEAST_VARIANCE = 0.05
_PRIOR_WORTH = 8.0
"""Independent samples that the whole log's scatter counts as, beside a cell's own."""


@dataclass(frozen=True, eq=False)
class Followers:
    """Which samples follow each other, and under which conditions; arrays of shape (n,).

    Attributes:
        breaks: a number that changes wherever samples are not neighbours in time.
        group: number of the log and region of a sample: scatter lasts longer at idle than in a pull, and a log of 100 Hz has
            ten times the samples of one of 10 Hz, but says no more.
        rate: samples a second of each group; 0 where it is not known. Shape (groups,).
    """

    breaks: IntArray
    group: IntArray
    rate: FloatArray


@dataclass(frozen=True, eq=False)
class Noise:
    """What the residuals say.

    Attributes:
        spread: robust standard deviation of all samples.
        by_cell: the same around each node of the net; shape (nodes,).
        by_group: samples worth one independent one; shape (groups,).
        efficiency: what Huber's weights leave of a sample's worth, times its variance.
    """

    spread: float
    by_cell: FloatArray
    by_group: FloatArray
    efficiency: float

    @property
    def together(self) -> float:
        """Samples worth one, over all groups."""
        return float(np.median(self.by_group))


def first_noise(nodes: int, groups: int, spread: float, together: float) -> Noise:
    """What is believed before any residual is known."""
    return Noise(spread, np.full(nodes, spread), np.full(groups, together), 1.0)


def noise_of(residual: FloatArray, node: IntArray, nodes: int, followed: Followers) -> Noise:
    """The noise that residuals show.

    A cell's scatter is the robust one of its own samples (1.4826 · median |r|), drawn to that of all by as much as eight
    independent samples say.

    Args:
        residual: shape (n,).
        node: the node of the net nearest to each; shape (n,).
        nodes: number of nodes.
        followed: which samples follow each other.
    """
    spread = max(1.4826 * float(np.median(np.abs(residual))), LEAST_SPREAD)
    clip = HUBER * spread
    whole = samples_worth_one(np.clip(residual, -clip, clip), followed.breaks)
    by_cell = _by_cell(np.abs(residual), node, nodes, spread, whole)
    scaled = residual / by_cell[node]
    clipped = np.clip(scaled, -HUBER, HUBER)
    by_group = np.full(followed.rate.size, whole)
    for number in range(followed.rate.size):
        mine = followed.group == number
        if int(mine.sum()) >= _FEWEST:
            breaks = _breaks(followed.breaks, mine)
            alone = samples_worth_one(clipped[mine], breaks, float(followed.rate[number]))
            by_group[number] = alone * beyond_visits(clipped[mine], breaks, node[mine], alone)
    within = float(np.mean(np.abs(scaled) <= HUBER))
    weight = float(np.mean(np.minimum(1.0, HUBER / np.maximum(np.abs(scaled), LEAST_SPREAD))))
    variance = max(float(np.mean(clipped**2)), _LEAST_VARIANCE)
    return Noise(spread, by_cell, by_group, within**2 / (variance * weight))


def beyond_visits(residual: FloatArray, breaks: IntArray, node: IntArray, together: float) -> float:
    """How much more the means of single visits to cells scatter than samples that follow each other explain; at least 1.

    What lasts through a visit, such as a heat that built up before it, cannot be seen within it: the ratio of Σ(sum of a
    visit)² to what `together` samples worth one lead to.

    Args:
        residual, breaks, node: of each sample, in time order; shape (n,).
        together: samples worth one.
    """
    new = np.concatenate(([True], (np.diff(node) != 0) | (np.diff(breaks) != 0)))
    visit = np.cumsum(new) - 1
    total, count = np.bincount(visit, weights=residual), np.bincount(visit)
    variance = float(np.mean(residual**2))
    expected = variance * float((count * np.minimum(count, together)).sum())
    if total.size < _FEWEST_VISITS or expected <= 0:
        return 1.0
    return float(np.clip((total**2).sum() / expected, 1.0, _MOST_BEYOND))


def _breaks(breaks: IntArray, mine: np.ndarray) -> IntArray:
    """Breaks among some of the samples: where others lie between, they are no neighbours."""
    place = np.flatnonzero(mine)
    apart = (np.diff(place) != 1) | (np.diff(breaks[place]) != 0)
    return np.concatenate(([0], np.cumsum(apart))).astype(np.int64)


def _by_cell(size: FloatArray, node: IntArray, nodes: int, spread: float, together: float) -> FloatArray:
    order = np.lexsort((size, node))
    count = np.bincount(node, minlength=nodes)
    start = np.concatenate(([0], np.cumsum(count)[:-1]))
    seen = np.flatnonzero(count)
    middle = size[order][start[seen] + count[seen] // 2]
    own = np.full(nodes, spread)
    own[seen] = np.maximum(1.4826 * middle, LEAST_SPREAD)
    worth = count / together
    drawn: FloatArray = np.sqrt((worth * own**2 + _PRIOR_WORTH * spread**2) / (worth + _PRIOR_WORTH))
    return drawn


def samples_worth_one(residual: FloatArray, breaks: IntArray, rate: float = 0.0) -> float:
    """How many samples that follow each other are worth one independent one: 1 + 2 Σ ρ(lag), at least 1.

    The sum of the autocorrelations ends where a pair of them is no longer positive (Geyer's initial positive sequence,
    *Statistical Science* 7, 1992) or after 400 lags. Samples of more than 10 Hz are averaged to that first, so that 400 lags
    reach as far in time; the means' variance then stands for what lies within them.

    Args:
        residual: shape (n,), in time order.
        breaks: a number that changes wherever samples are not neighbours in time; shape (n,).
        rate: samples a second; 0 if not known.
    """
    variance = float(np.mean(residual**2)) if residual.size else 0.0
    if variance <= 0 or residual.size < 8:
        return 1.0
    together = max(1, round(rate / _LAGS_PER_S))
    share = 1.0
    if together > 1:
        residual, breaks = _averaged(residual, breaks, together)
        if residual.size < 8:
            return float(together)
        means = float(np.mean(residual**2))
        if means <= 0:
            return 1.0
        share, variance = together * means / variance, means
    longest = min(_LONGEST_LAG, residual.size - 1)
    total = float(surface_kernels.summed_autocorrelation(kernels.read_only(residual), breaks, longest, variance))
    return max(1.0, share * (1.0 + 2.0 * total))


def _averaged(residual: FloatArray, breaks: IntArray, together: int) -> tuple[FloatArray, IntArray]:
    """Means of so many samples that follow each other; what is left over at a break is dropped."""
    edges = np.flatnonzero(np.diff(breaks)) + 1
    first = np.concatenate(([0], edges))
    place = np.arange(residual.size) - np.repeat(first, np.diff(np.concatenate((first, [residual.size]))))
    number = place // together
    new = np.concatenate(([True], (np.diff(number) != 0) | (np.diff(breaks) != 0)))
    at = np.cumsum(new) - 1
    count = np.bincount(at)
    mean = np.bincount(at, weights=residual) / count
    whole = count == together
    return mean[whole], breaks[np.flatnonzero(new)][whole]
