"""The surface: values at a table's breakpoints whose own interpolation best explains all samples."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from uchiwa.core import kernels
from uchiwa.core.bordered import Factor, band_of, factored
from uchiwa.core.log import BoolArray, FloatArray, IntArray
from uchiwa.core.meter_shape import straight_over_bent
from uchiwa.core.table import Axis, Table, frozen

PULL = 0.20
"""How far from "no change" a cell without any evidence is expected to lie, as a fraction (one standard deviation)."""
BENDS = (0.0005, 0.2)
"""Range in which the expected bend between neighbouring cells is sought, as a fraction."""
_HUBER = 1.345
_FIRST_SPREAD = 0.01
_FIRST_TOGETHER = 10.0
_ROUNDS = 2
_LONGEST_LAG = 400
_RESIDUALS = 60_000
_MISFIT = 1 / 8
_FIRST_LOOK = 150_000
_LEAST_SPREAD = 1e-7
_ROW = Axis("none", "1", frozen([0.0, 1.0]))
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
        slopes: of the further terms, in their order.
        slope_errors: standard errors of them.
    """

    factor: FloatArray
    standard_error: FloatArray
    bend: float
    freedom: float
    together: float
    spread: float
    slopes: tuple[float, ...]
    slope_errors: tuple[float, ...]


def continued(axis: Axis) -> Axis:
    """The axis with one more breakpoint beyond either end.

    Samples out there are explained by a continuation of the surface, and do not bend its edge.
    """
    points = axis.breakpoints
    low, high = 2 * points[0] - points[1], 2 * points[-1] - points[-2]
    return replace(axis, breakpoints=frozen(np.concatenate(([low], points, [high]))))


def bending(points: FloatArray) -> FloatArray:
    """Squared second differences, scaled by the spacing: the matrix D'D; shape (n, n).

    D takes second divided differences times the square of the median spacing, so that an evenly spaced axis gives the
    plain f₋ − 2f + f₊ and a wide step is not taken for a bend.
    """
    n = points.size
    step = np.diff(points)
    usual = float(np.median(step))
    before, after = step[:-1], step[1:]
    d = np.zeros((max(n - 2, 0), n))
    at = np.arange(max(n - 2, 0))
    d[at, at] = 2 / (before * (before + after))
    d[at, at + 1] = -2 / (before * after)
    d[at, at + 2] = 2 / (after * (before + after))
    d *= usual**2
    return np.asarray(d.T @ d)


@dataclass(frozen=True, eq=False)
class _Net:
    """The nodes of a surface: axes continued, and how nodes and patches are numbered."""

    x: Axis
    y: Axis
    curve: bool
    model: FloatArray
    rulers: tuple[kernels.Ruler, kernels.Ruler]

    @property
    def kept(self) -> BoolArray:
        """Nodes that exist; of a curve's two rows only the first."""
        kept = np.ones((self.y.size, self.x.size), dtype=np.bool_)
        kept[1:] = not self.curve
        return kept.ravel()

    @property
    def geometry(self) -> tuple[Any, ...]:
        """What every kernel wants first."""
        return (self.x.breakpoints, *self.rulers[0], self.y.breakpoints, *self.rulers[1], self.model)

    def corners(self) -> IntArray:
        """The four nodes of each patch; shape (4, patches)."""
        j, i = np.divmod(np.arange((self.y.size - 1) * (self.x.size - 1)), self.x.size - 1)
        first = j * self.x.size + i
        return np.stack([first, first + 1, first + self.x.size, first + self.x.size + 1])

    def penalty(self) -> tuple[FloatArray, FloatArray]:
        """The penalty over the kept nodes and its eigenvalues."""
        along = bending(self.x.breakpoints)
        if self.curve:
            return along, np.asarray(np.linalg.eigvalsh(along), dtype=np.float64)
        across = bending(self.y.breakpoints)
        whole = np.kron(np.eye(self.y.size), along) + np.kron(across, np.eye(self.x.size))
        values = np.add.outer(np.linalg.eigvalsh(across), np.linalg.eigvalsh(along)).ravel()
        return whole, values


def _net(table: Table) -> _Net:
    x = continued(table.x)
    curve = table.y is None
    y = _ROW if table.y is None else continued(table.y)
    grid = np.pad(table.grid, ((0, 1), (1, 1)) if curve else 1, mode="edge")
    model = np.where(grid > 0, grid, np.min(grid[grid > 0], initial=1.0))
    rulers = (kernels.ruler(x.breakpoints[1:-1]), kernels.ruler(y.breakpoints[1:-1]))
    return _Net(x, y, curve, np.ascontiguousarray(model.ravel()), rulers)


@dataclass(frozen=True, eq=False)
class _Noise:
    """What the residuals say of the samples: robust spread, samples worth one, and what a weight of 1 is worth."""

    spread: float
    together: float
    worth: float


@dataclass(frozen=True, eq=False)
class _Samples:
    x: FloatArray
    y: FloatArray
    value: FloatArray
    terms: FloatArray
    breaks: IntArray


def _noise(net: _Net, samples: _Samples, node: FloatArray, slopes: FloatArray) -> _Noise:
    step = max(1, samples.x.size // _RESIDUALS)
    residual, which = kernels.surface_residuals(
        *net.geometry, samples.x, samples.y, samples.value, samples.terms, node, slopes, step
    )
    spread = max(1.4826 * float(np.median(np.abs(residual))), _LEAST_SPREAD)
    clip = _HUBER * spread
    clipped = np.clip(residual, -clip, clip)
    group = samples.breaks[which] + (which // 4096) * 2**42
    together = samples_worth_one(clipped, group)
    within = float(np.mean(np.abs(residual) <= clip))
    weight = float(np.mean(np.minimum(1.0, clip / np.maximum(np.abs(residual), _LEAST_SPREAD))))
    variance = max(float(np.mean(clipped**2)), _LEAST_SPREAD**2)
    return _Noise(spread, together, within**2 / (together * variance * weight))


def samples_worth_one(residual: FloatArray, breaks: IntArray) -> float:
    """How many samples that follow each other are worth one independent one: 1 + 2 Σ ρ(lag), at least 1.

    The sum of the autocorrelations ends where a pair of them is no longer positive (Geyer's initial positive sequence,
    *Statistical Science* 7, 1992) or after 400 samples.

    Args:
        residual: shape (n,), in time order.
        breaks: a number that changes wherever samples are not neighbours in time; shape (n,).
    """
    variance = float(np.mean(residual**2)) if residual.size else 0.0
    if variance <= 0 or residual.size < 8:
        return 1.0
    total, pair = 0.0, 0.0
    for lag in range(1, min(_LONGEST_LAG, residual.size - 1) + 1):
        same = breaks[lag:] == breaks[:-lag]
        rho = float(np.sum(residual[lag:] * residual[:-lag] * same)) / max(int(same.sum()), 1) / variance
        pair = pair + rho if lag % 2 == 0 else rho
        if lag % 2 == 0:
            if pair <= 0 or same.sum() < 30:
                break
            total += pair
    return max(1.0, 1.0 + 2.0 * total)


def _equations(
    net: _Net, samples: _Samples, node: FloatArray, slopes: FloatArray, clip: float
) -> tuple[FloatArray, FloatArray]:
    """Normal matrix and right side over the kept nodes and the terms, of weight-1 samples."""
    parts = kernels.in_parts(
        samples.x.size,
        lambda first, last: kernels.surface_sums(
            *net.geometry, samples.x, samples.y, samples.value, samples.terms, node, slopes, clip, first, last
        ),
    )
    patches, right, between = (np.sum([part[k] for part in parts], axis=0) for k in range(3))
    nodes, terms = net.model.size, samples.terms.shape[0]
    corners = net.corners()
    full = np.zeros((nodes + terms, nodes + terms))
    for column, (a, b) in enumerate(_PAIRS):
        np.add.at(full, (corners[a], corners[b]), patches[:, column])
        if a != b:
            np.add.at(full, (corners[b], corners[a]), patches[:, column])
    full[:nodes, nodes:] = right[:, 1:]
    full[nodes:, :nodes] = right[:, 1:].T
    full[nodes:, nodes:] = between[:, 1:]
    keep = np.concatenate((net.kept, np.ones(terms, dtype=np.bool_)))
    return full[np.ix_(keep, keep)], np.concatenate((right[:, 0], between[:, 0]))[keep]


@dataclass(frozen=True, eq=False)
class _System:
    """What the samples say, and what is believed before any sample: cells near "no change", little bent.

    Attributes:
        band, border, corner: of the normal matrix, times what a sample is worth; see `bordered`.
        right: its right side, likewise.
        penalty: the band of the squared second differences.
        eigenvalues: of them.
    """

    band: FloatArray
    border: FloatArray
    corner: FloatArray
    right: FloatArray
    penalty: FloatArray
    eigenvalues: FloatArray

    def factor(self, bend: float) -> Factor:
        """Of the whole precision under a bend."""
        band = self.band + self.penalty / bend**2
        band[:, 0] += 1 / PULL**2
        return factored(band, self.border, self.corner + np.eye(self.corner.shape[0]))

    def log_evidence(self, bend: float) -> float:
        """Logarithm of the marginal likelihood of the samples, up to a constant."""
        factor = self.factor(bend)
        before = float(np.log(np.maximum(self.eigenvalues, 0.0) / bend**2 + 1 / PULL**2).sum())
        return (before - factor.log_determinant + factor.squared(self.right)) / 2

    def likeliest_bend(self) -> float:
        """The bend for which the samples speak most: a coarse search, then a finer one, on a logarithmic scale."""
        low, high = (float(np.log(one)) for one in BENDS)
        tried: dict[float, float] = {}
        grid = np.linspace(low, high, 8)
        for _ in range(2):
            for one in grid.tolist():
                tried.setdefault(one, self.log_evidence(float(np.exp(one))))
            best = max(tried, key=lambda one: tried[one])
            step = (grid[1] - grid[0]) / 3
            grid = np.clip(best + step * np.array([-2.0, -1.0, 1.0, 2.0]), low, high)
        return float(np.exp(max(tried, key=lambda one: tried[one])))


def _system(
    penalty: FloatArray, eigenvalues: FloatArray, matrix: FloatArray, right: FloatArray, worth: float
) -> _System:
    nodes, width = penalty.shape[0], penalty.shape[1] - 1
    return _System(
        band_of(matrix[:nodes, :nodes], width) * worth,
        matrix[:nodes, nodes:] * worth,
        matrix[nodes:, nodes:] * worth,
        right * worth,
        penalty,
        eigenvalues,
    )


def _part(samples: _Samples) -> _Samples:
    """Some stretches of many samples, enough for a first look."""
    step = samples.x.size // _FIRST_LOOK
    if step < 2:
        return samples
    use = (np.arange(samples.x.size) // 4096) % step == 0
    return _Samples(
        samples.x[use],
        samples.y[use],
        samples.value[use],
        np.ascontiguousarray(samples.terms[:, use]),
        samples.breaks[use],
    )


def fit_surface(
    table: Table,
    at_x: FloatArray,
    at_y: FloatArray | None,
    value: FloatArray,
    breaks: IntArray,
    terms: Sequence[FloatArray] = (),
) -> Surface:
    """Fit factors at a table's breakpoints to the error factors of samples.

    A table T corrected by factors f is looked up as Σ b·T·f, b being the bilinear weights; the error factor seen there
    is e = Σ b·T·f / Σ b·T. Further terms add slope·term to it. The factors minimise

        worth · Σ huber(e − prediction) + Σ (second differences)² / (2 bend²) + Σ (f − 1)² / (2 · 0.2²),

    where `worth` is 1 over the samples' variance times the number of samples worth one independent one, so that the
    inverse of the left side's second derivative is the covariance of the factors (a Gaussian prior; e.g. Wahba, *JRSS B*
    45, 1983, on such intervals). The bend is the one under which the samples are likeliest (empirical Bayes, which
    unlike plain cross-validation stands correlated errors, as `worth` knows of them). Huber's weights are found by
    repeating the solution. An airflow meter's curve is taken to bend between its points, see `meter_shape`.

    Args:
        table: gives axes and the values that the factors multiply.
        at_x, at_y: where each sample lies, in the axes' units; shape (n,), finite; `at_y` is None for a curve.
        value: error factors; shape (n,), finite.
        breaks: a number that changes wherever samples are not neighbours in time; shape (n,).
        terms: further regressors, each of shape (n,).
    """
    net = _net(table)
    whole = table.shape
    if table.role == "maf_curve":
        value = value * straight_over_bent(table, at_x)
    terms_array = np.ascontiguousarray(np.stack(terms) if terms else np.zeros((0, value.size)), dtype=np.float64)
    count = terms_array.shape[0]
    samples = _Samples(
        np.ascontiguousarray(at_x, dtype=np.float64),
        np.zeros_like(value) if at_y is None else np.ascontiguousarray(at_y, dtype=np.float64),
        np.ascontiguousarray(value - 1.0),
        terms_array,
        breaks,
    )
    node: FloatArray = np.zeros(net.model.size)
    slopes: FloatArray = np.zeros(count)
    kept = net.kept
    noise = _Noise(_FIRST_SPREAD, _FIRST_TOGETHER, 1 / (_FIRST_TOGETHER * _FIRST_SPREAD**2))
    clip, bend = np.inf, 0.02
    inner = (slice(0, 1), slice(1, -1)) if net.curve else (slice(1, -1), slice(1, -1))
    nodes = int(kept.sum())
    if value.size == 0:
        return Surface(np.ones(whole), np.full(whole, PULL), bend, 0.0, 1.0, 0.0, (0.0,) * count, (1.0,) * count)
    look = _part(samples)
    dense, eigenvalues = net.penalty()
    penalty = band_of(dense, 2 if net.curve else 2 * net.x.size)
    for number in range(_ROUNDS + 1):
        last = number == _ROUNDS
        matrix, right = _equations(net, samples if last else look, node, slopes, clip)
        system = _system(penalty, eigenvalues, matrix, right, noise.worth)
        if number:
            bend = system.likeliest_bend() if last or look is samples else bend
        factor = system.factor(bend)
        solved = factor.solve(system.right[:, None])[:, 0]
        node = np.zeros(net.model.size)
        node[kept], slopes = solved[:nodes], solved[nodes:]
        if not last:
            noise = _noise(net, look, node, slopes)
            clip = _HUBER * noise.spread
    covariance = factor.solve(np.eye(nodes + count))
    errors = np.sqrt(np.maximum(np.diag(covariance), 0.0))
    return Surface(
        factor=1.0 + node.reshape(net.y.size, net.x.size)[inner],
        standard_error=np.hypot(
            _on_net(net, errors[:nodes]), _misfit(net, node, np.asarray(covariance[:nodes, :nodes]))
        )[inner],
        bend=bend,
        freedom=float(np.sum(covariance * matrix) * noise.worth),
        together=noise.together,
        spread=noise.spread,
        slopes=tuple(slopes.tolist()),
        slope_errors=tuple(errors[nodes:].tolist()),
    )


def _on_net(net: _Net, values: FloatArray) -> FloatArray:
    whole = np.zeros(net.model.size)
    whole[net.kept] = values
    return whole.reshape(net.y.size, net.x.size)


def _misfit(net: _Net, node: FloatArray, covariance: FloatArray) -> FloatArray:
    """What straight lines between breakpoints cannot follow, as a standard deviation at each node of the net.

    Between two breakpoints a curve with second difference b lies up to b/8 off the straight line, so that samples from
    between them may draw a node that far from the value at the breakpoint itself. Of b its estimate and its uncertainty
    are taken, along both axes.
    """
    grid = node.reshape(net.y.size, net.x.size)
    number = np.full(net.model.size, -1)
    number[net.kept] = np.arange(int(net.kept.sum()))
    number = number.reshape(grid.shape)
    squared = np.zeros(grid.shape)
    for axis in (0, 1):
        if net.curve and axis == 0:
            continue
        rows = 1 if net.curve else grid.shape[0]
        index, values = (np.moveaxis(one[:rows], axis, 0) for one in (number, grid))
        bend = values[:-2] - 2 * values[1:-1] + values[2:]
        a, b, c = index[:-2], index[1:-1], index[2:]
        variance = covariance[a, a] + 4 * covariance[b, b] + covariance[c, c]
        variance = variance - 4 * covariance[a, b] + 2 * covariance[a, c] - 4 * covariance[b, c]
        np.moveaxis(squared[:rows], axis, 0)[1:-1] += bend**2 + np.maximum(variance, 0.0)
    return _MISFIT * np.sqrt(squared)
