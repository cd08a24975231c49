"""The surface: values at a table's breakpoints whose own interpolation best explains all samples."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from scipy.ndimage import distance_transform_edt
from scipy.special import gammaincinv

from uchiwa.core.evidence import kernels, surface_kernels
from uchiwa.core.evidence.bins import Samples
from uchiwa.core.evidence.bordered import band_of
from uchiwa.core.evidence.meter_shape import straight_over_bent
from uchiwa.core.evidence.surface_misfit import misfit_of, off_centre
from uchiwa.core.evidence.surface_net import SurfaceNet, net_of
from uchiwa.core.evidence.surface_noise import HUBER, Followers, Noise, first_noise, noise_of
from uchiwa.core.evidence.surface_system import PULL, system_of
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.tables.table import Table

STRAY = 0.015
"""How much further from the surface a cell may lie for each cell of distance from the evidence, as a fraction."""
OFFSET = 0.02
"""How far a log may lie from the others as a whole, before anything is known of it (one standard deviation)."""
_LEAST_OFFSET = 0.002
_SHARED_SAMPLES, _SHARED_CELLS = 20, 5
_SURE_OFFSETS = 0.99
_SUPPORTED = 0.02
_FIRST_SPREAD = 0.01
_FIRST_TOGETHER = 10.0
_ROUNDS = 2
_RESIDUALS = 60_000
_FIRST_LOOK = 150_000
_BLOCK = 4096
_PAIRS = np.array([(a, b) for a in range(4) for b in range(a, 4)])


@dataclass(frozen=True, eq=False)
class Surface:
    """A fitted surface; arrays of the table's shape (rows, columns).

    Attributes:
        factor: the factor at each breakpoint.
        standard_error: of it, as a fraction.
        bend: second difference from cell to cell that the data were found to speak for, as a fraction (one standard
            deviation); the penalty is 1/bend².
        freedom: effective number of parameters.
        together: how many samples that follow each other are worth one independent sample.
        spread: robust standard deviation of single samples about the surface.
        offsets: by how much each log lies above the others as a whole, as a fraction; nought where that is chance.
        offset_errors: standard errors of them.
    """

    factor: FloatArray
    standard_error: FloatArray
    bend: float
    freedom: float
    together: float
    spread: float
    offsets: tuple[float, ...] = ()
    offset_errors: tuple[float, ...] = ()


@dataclass(frozen=True, eq=False)
class _Samples:
    x: FloatArray
    y: FloatArray
    value: FloatArray
    node: IntArray
    log: IntArray
    followed: Followers

    def weighed(self, noise: Noise) -> tuple[FloatArray, FloatArray]:
        """Scatter and worth of each sample; shape (n,)."""
        scale = noise.by_cell[self.node]
        worth = noise.efficiency / (noise.by_group[self.followed.group] * scale**2)
        return scale, worth

    def part(self) -> _Samples:
        """Some stretches of many samples, enough for a first look."""
        step = self.x.size // _FIRST_LOOK
        return self if step < 2 else self.chosen((np.arange(self.x.size) // _BLOCK) % step == 0)

    def chosen(self, use: BoolArray) -> _Samples:
        """Some of them."""
        followed = Followers(self.followed.breaks[use], self.followed.group[use], self.followed.rate)
        return _Samples(self.x[use], self.y[use], self.value[use], self.node[use], self.log[use], followed)


def _noise(net: SurfaceNet, samples: _Samples, node: FloatArray, offsets: FloatArray) -> Noise:
    step = max(1, samples.x.size // _RESIDUALS)
    residual, which = surface_kernels.surface_residuals(
        *net.geometry, samples.x, samples.y, samples.value, samples.log, node, offsets, step
    )
    seen = samples.followed
    breaks = seen.breaks[which] + (which // _BLOCK) * 2**42
    return noise_of(
        residual, samples.node[which], net.model.size, Followers(breaks, seen.group[which], seen.rate)
    )  # fmt: skip


def _equations(
    net: SurfaceNet, samples: _Samples, noise: Noise, so_far: tuple[FloatArray, FloatArray], clip: float
) -> tuple[FloatArray, FloatArray]:
    """Precision matrix and right side over the kept nodes and the logs' offsets, of the samples alone.

    Args:
        so_far: values at the nodes and offsets of the logs around which the samples are weighed anew.
        clip: residuals beyond it, in their own scatter, count less.
    """
    node, offsets = so_far
    scale, worth = samples.weighed(noise)
    parts = kernels.in_parts(
        samples.x.size,
        lambda first, last: surface_kernels.surface_sums(
            *net.geometry,
            samples.x,
            samples.y,
            samples.value,
            samples.log,
            scale,
            worth,
            node,
            offsets,
            clip,
            first,
            last,
        ),
    )
    patches, right, between = (np.sum([part[k] for part in parts], axis=0) for k in range(3))
    nodes, logs = net.model.size, offsets.size
    corners = net.corners()
    full = np.zeros((nodes + logs, nodes + logs))
    for column, (a, b) in enumerate(_PAIRS):
        np.add.at(full, (corners[a], corners[b]), patches[:, column])
        if a != b:
            np.add.at(full, (corners[b], corners[a]), patches[:, column])
    full[:nodes, nodes:] = right[:, 1:]
    full[nodes:, :nodes] = right[:, 1:].T
    full[nodes:, nodes:] = np.diag(between[:, 0])
    keep = np.concatenate((net.kept, np.ones(logs, dtype=np.bool_)))
    return full[np.ix_(keep, keep)], np.concatenate((right[:, 0], between[:, 1]))[keep]


@dataclass(frozen=True, eq=False)
class Conditions:
    """Under which conditions samples were recorded; arrays of shape (n,).

    Attributes:
        log: number of the log, from 0.
        region: see `regions.Region`.
        rate: samples a second of each log; shape (logs,).
    """

    log: IntArray
    region: IntArray
    rate: FloatArray

    def followed(self, breaks: IntArray) -> Followers:
        """Groups of samples that scatter alike."""
        regions = int(self.region.max()) + 1 if self.region.size else 1
        return Followers(breaks, self.log * regions + self.region, np.repeat(self.rate, regions))


def fit_surface(table: Table, seen: Samples, conditions: Conditions | None = None) -> Surface:
    """Fit factors at a table's breakpoints to the error factors of samples.

    A table T corrected by factors f is looked up as Σ b·T·f, b being the bilinear weights; the error factor seen there
    is e = Σ b·T·f / Σ b·T. A log as a whole may lie δ above the others. The factors minimise

        Σ worth · huber(e − δ − prediction) + Σ (second differences)² / (2 bend²) + Σ (f − 1)² / (2 · 0.2²) + Σ δ² / (2 · d²),

    where `worth` is 1 over the variance around the sample's cell times the number of samples of its log and region worth
    one independent one, so that the inverse of the left side's second derivative is the covariance of the factors (a
    Gaussian prior; e.g. Wahba, *JRSS B* 45, 1983, on such intervals). The bend is the one under which the samples are
    likeliest (empirical Bayes, which unlike plain cross-validation stands correlated errors, as `worth` knows of them).
    Huber's weights are found by repeating the solution. Offsets δ of logs are used only if they are larger than chance
    explains. The standard error grows with the distance from the evidence, for how the truth bends out there nobody has
    seen. An airflow meter's curve is taken to bend between its points, see `meter_shape`.

    Args:
        table: gives axes and the values that the factors multiply.
        seen: of error factors; how long each lasted does not matter.
        conditions: from which logs and regions the samples are; None for one log, all alike.
    """
    net = net_of(table)
    whole, value = table.shape, seen.value
    logs = conditions.rate.size if conditions is not None else 1
    if value.size == 0:
        return Surface(np.ones(whole), np.full(whole, PULL), 0.02, 0.0, 1.0, 0.0, (0.0,) * logs, (0.0,) * logs)
    if table.role == "maf_curve":
        value = value * straight_over_bent(table, seen.x)
    zero = np.zeros(value.size, dtype=np.int64)
    known = Conditions(zero, zero, np.zeros(1)) if conditions is None else conditions
    x = np.ascontiguousarray(seen.x, dtype=np.float64)
    y = np.zeros_like(value) if seen.y is None else np.ascontiguousarray(seen.y, dtype=np.float64)
    followed = known.followed(seen.breaks)
    node = net.nearest(x, y)
    log = _comparable(known.log, node, logs, net.model.size)
    samples = _Samples(x, y, np.ascontiguousarray(value - 1.0), node, log, followed)
    noise = first_noise(net.model.size, followed.rate.size, _FIRST_SPREAD, _FIRST_TOGETHER)
    fitted = _fitted(net, samples, noise, np.zeros(logs if (log >= 0).any() else 0))
    inner = (slice(0, 1), slice(1, -1)) if net.curve else (slice(1, -1), slice(1, -1))
    nodes = int(net.kept.sum())
    errors = np.sqrt(np.maximum(np.diag(fitted.covariance), 0.0))
    bent = table.role == "maf_curve"
    look = samples.part()
    off = off_centre(net, look.x, look.y, look.weighed(fitted.noise)[1])
    misfit = misfit_of(net, fitted.node, np.asarray(fitted.covariance[:nodes, :nodes]), off, straight=bent)
    stray = STRAY * _cells_away(np.diag(fitted.matrix)[:nodes] >= _SUPPORTED**-2, net)
    # Which of logs that lie apart is right nobody knows: their common level is as uncertain as a mean of so many.
    level = fitted.offset / np.sqrt(logs) if fitted.offsets.size else 0.0
    none = (0.0,) * logs
    return Surface(
        factor=1.0 + fitted.node.reshape(net.y.size, net.x.size)[inner],
        standard_error=np.sqrt(_on_net(net, errors[:nodes]) ** 2 + misfit**2 + stray**2 + level**2)[inner],
        bend=fitted.bend,
        freedom=float(np.sum(fitted.covariance * fitted.matrix)),
        together=fitted.noise.together,
        spread=fitted.noise.spread,
        offsets=tuple(fitted.offsets.tolist()) or none,
        offset_errors=tuple(errors[nodes:].tolist()) or none,
    )


@dataclass(frozen=True, eq=False)
class _Fitted:
    """A solution: values at the net's nodes, the logs' offsets, and what they rest on."""

    node: FloatArray
    offsets: FloatArray
    covariance: FloatArray
    matrix: FloatArray
    noise: Noise
    bend: float
    offset: float


def _fitted(net: SurfaceNet, samples: _Samples, noise: Noise, offsets: FloatArray) -> _Fitted:
    """The solution, found in some rounds; offsets that chance explains are dropped on the way."""
    look = samples.part()
    dense, eigenvalues = net.penalty()
    penalty = band_of(dense, 2 if net.curve else 2 * net.x.size)
    kept, nodes = net.kept, int(net.kept.sum())
    node: FloatArray = np.zeros(net.model.size)
    clip, bend, offset = np.inf, 0.02, OFFSET
    for number in range(_ROUNDS + 1):
        last = number == _ROUNDS
        matrix, right = _equations(net, samples if last else look, noise, (node, offsets), clip)
        system = system_of(penalty, eigenvalues, matrix, right, offset)
        if number:
            bend = system.likeliest_bend() if last or look is samples else bend
        factor = system.factor(bend)
        solved = factor.solve(system.right[:, None])[:, 0]
        node = np.zeros(net.model.size)
        node[kept], offsets = solved[:nodes], solved[nodes:]
        if not last:
            noise = _noise(net, look, node, offsets)
            clip = HUBER
            if number and offsets.size:
                corner = np.zeros((nodes + offsets.size, offsets.size))
                corner[nodes:] = np.eye(offsets.size)
                offset = _offset_spread(offsets, factor.solve(corner)[nodes:])
                if offset == 0.0:
                    offsets, offset = np.zeros(0), OFFSET
                    look = samples = replace(samples, log=np.full(samples.log.size, -1, dtype=np.int64))
    covariance = factor.solve(np.eye(nodes + offsets.size))
    return _Fitted(node, offsets, covariance, matrix, noise, bend, offset)


def _comparable(log: IntArray, node: IntArray, logs: int, nodes: int) -> IntArray:
    """The log of each sample, −1 of those that share too little ground with the others to be held against them.

    Logs that were driven each in a corner of its own differ by where they were, and nothing else can be told from them.
    """
    count = np.zeros((logs, nodes))
    np.add.at(count, (log, node), 1.0)
    there = count >= _SHARED_SAMPLES
    shared = (there & (there.sum(axis=0) >= 2)[None, :]).sum(axis=1)
    told = shared >= _SHARED_CELLS
    if int(told.sum()) < 2:
        return np.full(log.shape, -1, dtype=np.int64)
    return np.where(told[log], log, -1).astype(np.int64)


def _offset_spread(offsets: FloatArray, covariance: FloatArray) -> float:
    """How far logs lie apart as wholes, one standard deviation; 0 if chance explains it.

    How they lie to each other counts, not how all of them lie to the surface: contrasts c = δ − δ̄ with their covariance C,
    and c'C⁻¹c held against χ² of one degree less than there are logs.
    """
    count = offsets.size
    centred = np.eye(count) - 1.0 / count
    contrast, spread = centred @ offsets, centred @ covariance @ centred
    squares = float(contrast @ np.linalg.pinv(spread, hermitian=True) @ contrast)
    apart = float(np.sqrt(max((contrast @ contrast - np.trace(spread)) / (count - 1), 0.0)))
    sure = squares > 2.0 * float(gammaincinv((count - 1) / 2.0, _SURE_OFFSETS))
    return apart if sure and apart >= _LEAST_OFFSET else 0.0


def _cells_away(supported: BoolArray, net: SurfaceNet) -> FloatArray:
    """Cells from each node to the nearest one that samples speak for; shape of the net."""
    whole = np.zeros(net.model.size, dtype=np.bool_)
    whole[net.kept] = supported
    grid = whole.reshape(net.y.size, net.x.size)
    if not grid.any():
        return np.full(grid.shape, float(max(grid.shape)))
    return np.asarray(distance_transform_edt(~grid), dtype=np.float64)


def _on_net(net: SurfaceNet, values: FloatArray) -> FloatArray:
    whole = np.zeros(net.model.size)
    whole[net.kept] = values
    return whole.reshape(net.y.size, net.x.size)
