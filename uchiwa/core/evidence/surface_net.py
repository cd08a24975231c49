"""The nodes of a surface, and what a bend between them costs."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from uchiwa.core.evidence import kernels
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray
from uchiwa.core.tables.table import Axis, Table, frozen

_NEARLY_TOUCHING = 16
_ROW = Axis("none", "1", frozen([0.0, 1.0]))


def continued(axis: Axis) -> Axis:
    """The axis with one more breakpoint beyond either end.

    Samples out there are explained by a continuation of the surface, and do not bend its edge.
    """
    points, step = axis.breakpoints, _steps(axis.breakpoints)
    low, high = points[0] - step[0], points[-1] + step[-1]
    return replace(axis, breakpoints=frozen(np.concatenate(([low], points, [high]))))


def _steps(points: FloatArray) -> FloatArray:
    """Steps between breakpoints; those that nearly touch are held a 16th of the median step apart."""
    step = np.diff(points)
    return np.asarray(np.maximum(step, np.median(step) / _NEARLY_TOUCHING))


def bending(points: FloatArray) -> FloatArray:
    """Squared second differences, scaled by the spacing: the matrix D'D; shape (n, n).

    D takes second divided differences times the square of the median spacing, so that an evenly spaced axis gives the
    plain f₋ − 2f + f₊ and a wide step is not taken for a bend.
    """
    n = points.size
    step = _steps(points)
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
class SurfaceNet:
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

    def nearest(self, x: FloatArray, y: FloatArray) -> IntArray:
        """The node nearest to each sample; shape (n,)."""
        column = self.x.nearest(x)
        return column if self.curve else self.y.nearest(y) * self.x.size + column

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


def net_of(table: Table) -> SurfaceNet:
    x = continued(table.x)
    curve = table.y is None
    y = _ROW if table.y is None else continued(table.y)
    grid = np.pad(table.grid, ((0, 1), (1, 1)) if curve else 1, mode="edge")
    model = np.where(grid > 0, grid, np.min(grid[grid > 0], initial=1.0))
    rulers = (kernels.ruler(x.breakpoints[1:-1]), kernels.ruler(y.breakpoints[1:-1]))
    return SurfaceNet(x, y, curve, np.ascontiguousarray(model.ravel()), rulers)
