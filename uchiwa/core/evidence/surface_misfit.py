"""What the straight lines between a surface's breakpoints cannot follow."""

from __future__ import annotations

import numpy as np

from uchiwa.core.evidence import kernels, surface_kernels
from uchiwa.core.evidence.surface_net import SurfaceNet
from uchiwa.core.logs.log import FloatArray

_MISFIT = 1 / 8


def off_centre(net: SurfaceNet, x: FloatArray, y: FloatArray, worth: FloatArray) -> tuple[FloatArray, FloatArray]:
    """How far from its node the samples of each node lie, along columns and along rows: 0 on it, 1 halfway to the next.

    The mean of 4r(1 − r) over its samples, by the lookup's weights, r being the place between two breakpoints: 2/3 where
    samples lie evenly about a node. Nought where there is no sample.

    Args:
        net: of the surface.
        x, y: where each sample lies; shape (n,).
        worth: what each sample weighs; shape (n,).

    Returns:
        Along y and along x, in the order of a grid's axes; shape of the net.
    """
    geometry = net.geometry[:-1]
    parts = kernels.in_parts(
        x.size, lambda first, last: surface_kernels.between_sums(*geometry, x, y, worth, first, last)
    )
    whole, along, across = np.sum(parts, axis=0).T
    seen = np.where(whole > 0, whole, np.inf)
    shape = (net.y.size, net.x.size)
    return (across / seen).reshape(shape), (along / seen).reshape(shape)


def misfit_of(
    net: SurfaceNet, node: FloatArray, covariance: FloatArray, off: tuple[FloatArray, FloatArray], straight: bool
) -> FloatArray:
    """What straight lines between breakpoints cannot follow, as a standard deviation at each node of the net.

    Between two breakpoints, at the share r of the way, a curve with second difference b lies r(1 − r)·b/2 off the straight
    line, at most b/8; so far the samples found there draw a node from the value at the breakpoint itself. It is the engine that is smooth, not the
    error: so b is that of the corrected table, as a share of its value, with the uncertainty of the factors', along both
    axes.

    Args:
        net: of the surface.
        node: factors less 1; shape (nodes,).
        covariance: of the kept nodes.
        off: how far from it the samples of each node lie, along columns and along rows, see `off_centre`.
        straight: whether the samples have been freed of the table's own bend, so that only the factors' is left.
    """
    grid = node.reshape(net.y.size, net.x.size)
    model = net.model.reshape(grid.shape)
    shape = grid if straight else model * (1.0 + grid)
    number = np.full(net.model.size, -1)
    number[net.kept] = np.arange(int(net.kept.sum()))
    number = number.reshape(grid.shape)
    squared = np.zeros(grid.shape)
    for axis in (0, 1):
        if net.curve and axis == 0:
            continue
        rows = 1 if net.curve else grid.shape[0]
        index, values, scale = (np.moveaxis(one[:rows], axis, 0) for one in (number, shape, model))
        step = np.diff((net.y if axis == 0 else net.x).breakpoints)
        before, after = (one.reshape(-1, *([1] * (values.ndim - 1))) for one in (step[:-1], step[1:]))
        # The second difference of uneven steps, over the wider of both.
        second = 2 * ((values[2:] - values[1:-1]) / after - (values[1:-1] - values[:-2]) / before) / (before + after)
        bend = second * np.maximum(before, after) ** 2 / (1.0 if straight else scale[1:-1])
        # The continued breakpoints repeat the edge's value: there a bend of the table is not known, and its neighbour's counts.
        if not straight and bend.shape[0] > 2:
            bend[0], bend[-1] = bend[1], bend[-2]
        a, b, c = index[:-2], index[1:-1], index[2:]
        variance = covariance[a, a] + 4 * covariance[b, b] + covariance[c, c]
        variance = variance - 4 * covariance[a, b] + 2 * covariance[a, c] - 4 * covariance[b, c]
        drawn = np.moveaxis(off[axis][:rows], axis, 0)[1:-1]
        np.moveaxis(squared[:rows], axis, 0)[1:-1] += (bend**2 + np.maximum(variance, 0.0)) * drawn**2
    return _MISFIT * np.sqrt(squared)
