"""A table that its controller holds as a polynomial per zone: shown as a surface, refitted after a correction."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

_RIDGE = 1e-9


@dataclass(frozen=True)
class Zone:
    """A polynomial over a rectangle of a table.

    Attributes:
        x, y: first and last place of the rectangle along each axis, in the axes' units.
        degree: highest total power.
        coefficients: of the powers in the order of `powers(degree)`; x and y run from −1 to 1 across the rectangle.
    """

    x: tuple[float, float]
    y: tuple[float, float]
    degree: int
    coefficients: tuple[float, ...]

    def covers(self, x: FloatArray, y: FloatArray) -> BoolArray:
        """Which places lie in the rectangle, edges included."""
        inside: BoolArray = (x >= self.x[0]) & (x <= self.x[1]) & (y >= self.y[0]) & (y <= self.y[1])
        return inside

    def terms(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """The powers at some places; shape (number of powers, …)."""
        u, v = _across(x, self.x), _across(y, self.y)
        return np.stack([u**a * v**b for a, b in powers(self.degree)])

    def value(self, x: FloatArray, y: FloatArray) -> FloatArray:
        """The polynomial."""
        return np.asarray(np.tensordot(np.array(self.coefficients), self.terms(x, y), axes=1))


def powers(degree: int) -> list[tuple[int, int]]:
    """Powers of x and y up to a total degree: 1, x, y, x², x·y, y², …"""
    return [(total - b, b) for total in range(degree + 1) for b in range(total + 1)]


def _across(values: FloatArray, ends: tuple[float, float]) -> FloatArray:
    return (2 * values - ends[0] - ends[1]) / (ends[1] - ends[0])


def zone_surface(zones: Sequence[Zone], x: FloatArray, y: FloatArray, beyond: FloatArray) -> FloatArray:
    """What the controller computes at breakpoints; where zones meet, the first one counts; outside all, `beyond`.

    Args:
        zones: in the order in which the controller looks them up.
        x, y: breakpoints; shapes (columns,) and (rows,).
        beyond: shape (rows, columns).
    """
    at_x, at_y = np.meshgrid(x, y)
    result = np.array(beyond, dtype=np.float64)
    for zone in reversed(zones):
        inside = zone.covers(at_x, at_y)
        result[inside] = zone.value(at_x[inside], at_y[inside])
    return result


def refit(
    zones: Sequence[Zone], x: FloatArray, y: FloatArray, wanted: FloatArray, weight: FloatArray
) -> tuple[Zone, ...]:
    """Coefficients that come nearest to the values wanted, zone by zone, by weighted least squares.

    Breakpoints without weight hold their zone a little, so that a corner that was never driven does not fly off. A
    zone with fewer breakpoints than powers keeps as much of its old shape as it must.

    Args:
        zones: as they are.
        x, y: breakpoints; shapes (columns,) and (rows,).
        wanted: values after the correction; shape (rows, columns).
        weight: how much each value counts, 0 or more; shape (rows, columns).
    """
    at_x, at_y = np.meshgrid(x, y)
    taken = np.zeros(wanted.shape, dtype=np.bool_)
    result: list[Zone] = []
    least = 0.02 * float(weight.max()) if weight.max() > 0 else 1.0
    for zone in zones:
        inside = zone.covers(at_x, at_y) & ~taken
        taken |= inside
        if not inside.any():
            result.append(zone)
            continue
        terms = zone.terms(at_x[inside], at_y[inside])
        w = np.maximum(weight[inside], least)
        old = np.array(zone.coefficients)
        left = wanted[inside] - old @ terms
        matrix = (terms * w) @ terms.T + _RIDGE * w.sum() * np.eye(old.size)
        change = np.linalg.solve(matrix, (terms * w) @ left)
        result.append(replace(zone, coefficients=tuple((old + change).tolist())))
    return tuple(result)
