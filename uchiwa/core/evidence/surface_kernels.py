"""Loops over the samples of a surface, compiled by numba."""

from __future__ import annotations

import numpy as np
from numba import njit

from uchiwa.core.evidence.kernels import above, share_of


@njit(cache=True, nogil=True)
def surface_sums(  # type: ignore[no-untyped-def]  # pragma: no cover
    px, bx, fx, lx, ux, py, by, fy, ly, uy, model, x, y, value, log, scale, worth, node, offset, clip, first, last
):
    """Sums from which the normal equations of the surface are made, with Huber's weights about a given surface.

    The prediction at a sample is Σ w·node + the offset of its log, with w the lookup's weights times the model's own values
    at the four nodes, made to sum to 1. A sample weighs `worth`, and less from a residual of `clip` times its `scale`. A log
    of −1 has no offset.

    Returns:
        For each patch of four nodes the ten products of weights, (patches, 10); for each node the products of its
        weight with the value and with each log's, (nodes, 1 + m); of each log Σ ω and Σ ω·value, (m, 2).
    """
    nx, m = px.size, offset.size
    patches = np.zeros(((nx - 1) * (py.size - 1), 10))
    right = np.zeros((nx * py.size, 1 + m))
    between = np.zeros((m, 2))
    w = np.empty(4)
    c = np.empty(4, dtype=np.int64)
    for n in range(first, last):
        i, j = above(bx, fx, lx, ux, x[n]), above(by, fy, ly, uy, y[n])
        rx, ry = share_of(px, i, x[n]), share_of(py, j, y[n])
        c[0] = j * nx + i
        c[1], c[2], c[3] = c[0] + 1, c[0] + nx, c[0] + nx + 1
        w[0], w[1], w[2], w[3] = (1 - rx) * (1 - ry), rx * (1 - ry), (1 - rx) * ry, rx * ry
        total = 0.0
        for k in range(4):
            w[k] *= model[c[k]]
            total += w[k]
        v = value[n]
        residual = v
        for k in range(4):
            w[k] /= total
            residual -= w[k] * node[c[k]]
        at_log = log[n]
        if at_log >= 0:
            residual -= offset[at_log]
        size = abs(residual) / scale[n]
        omega = worth[n] if size <= clip else worth[n] * clip / size
        at = 0
        patch = patches[j * (nx - 1) + i]
        for k in range(4):
            share = omega * w[k]
            for other in range(k, 4):
                patch[at] += share * w[other]
                at += 1
            right[c[k], 0] += share * v
            if at_log >= 0:
                right[c[k], 1 + at_log] += share
        if at_log >= 0:
            between[at_log, 0] += omega
            between[at_log, 1] += omega * v
    return patches, right, between


@njit(cache=True, nogil=True)
def surface_residuals(px, bx, fx, lx, ux, py, by, fy, ly, uy, model, x, y, value, log, node, offset, step):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Residuals of every `step`-th stretch of 4096 samples; shape (about n / step,), and which samples they are of."""
    nx, block = px.size, 4096
    out = np.empty(x.size)
    which = np.empty(x.size, dtype=np.int64)
    number = 0
    for n in range(x.size):
        if (n // block) % step:
            continue
        i, j = above(bx, fx, lx, ux, x[n]), above(by, fy, ly, uy, y[n])
        rx, ry = share_of(px, i, x[n]), share_of(py, j, y[n])
        c = j * nx + i
        a, b = (1 - rx) * (1 - ry) * model[c], rx * (1 - ry) * model[c + 1]
        d, e = (1 - rx) * ry * model[c + nx], rx * ry * model[c + nx + 1]
        expected = (a * node[c] + b * node[c + 1] + d * node[c + nx] + e * node[c + nx + 1]) / (a + b + d + e)
        if log[n] >= 0:
            expected += offset[log[n]]
        out[number] = value[n] - expected
        which[number] = n
        number += 1
    return out[:number], which[:number]


@njit(cache=True, nogil=True)
def between_sums(px, bx, fx, lx, ux, py, by, fy, ly, uy, x, y, worth, first, last):  # type: ignore[no-untyped-def]  # pragma: no cover
    """How far the samples of each node lie between breakpoints.

    Returns:
        For each node, with w the lookup's weight, r the place from one column to the next and s from one row to the next:
        Σ ω·w, Σ ω·w·4r(1 − r), Σ ω·w·4s(1 − s); shape (nodes, 3).
    """
    nx = px.size
    sums = np.zeros((nx * py.size, 3))
    for n in range(first, last):
        i, j = above(bx, fx, lx, ux, x[n]), above(by, fy, ly, uy, y[n])
        rx, ry = share_of(px, i, x[n]), share_of(py, j, y[n])
        along, across = 4 * rx * (1 - rx), 4 * ry * (1 - ry)
        for k in range(4):
            weight = worth[n] * (rx if k % 2 else 1 - rx) * (ry if k // 2 else 1 - ry)
            row = sums[(j + k // 2) * nx + i + k % 2]
            row[0] += weight
            row[1] += weight * along
            row[2] += weight * across
    return sums


@njit(cache=True, nogil=True, fastmath={"reassoc"})
def _product(early, late):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Σ early · late, in whatever order is quickest."""
    total = 0.0
    for at in range(late.size):
        total += early[at] * late[at]
    return total


@njit(cache=True, nogil=True)
def summed_autocorrelation(residual, breaks, longest, variance):  # type: ignore[no-untyped-def]  # pragma: no cover
    """Σ ρ(lag) over pairs of lags until a pair is no longer positive, or has fewer than 30 samples.

    Samples with a break between them are no pair. Never more than `longest` lags.
    """
    ends, runs = np.empty(residual.size + 1, dtype=np.int64), 0
    for at in range(1, residual.size + 1):
        if at == residual.size or breaks[at] != breaks[at - 1]:
            ends[runs] = at
            runs += 1
    total, pair = 0.0, 0.0
    for lag in range(1, longest + 1):
        together, pairs, begin = 0.0, 0, 0
        for run in range(runs):
            end = ends[run]
            if end - begin > lag:
                together += _product(residual[begin : end - lag], residual[begin + lag : end])
                pairs += end - begin - lag
            begin = end
        rho = together / max(pairs, 1) / variance
        if lag % 2 == 1:
            pair = rho
            continue
        pair += rho
        if pair <= 0 or pairs < 30:
            break
        total += pair
    return total
