"""The nodes of a surface and the cost of a bend, against their plain definitions."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.core.evidence.surface_net import bending, continued, net_of
from uchiwa.core.tables.table import Axis, frozen

points = st.lists(st.floats(1, 500), min_size=3, max_size=10).map(lambda steps: np.cumsum(steps))


def test_an_even_axis_gives_plain_second_differences():
    d = np.array([[1.0, -2, 1, 0], [0, 1, -2, 1]])
    assert bending(np.array([500.0, 1000, 1500, 2000])) == pytest.approx(d.T @ d)


@given(points, st.floats(-3, 3), st.floats(-0.1, 0.1))
def test_a_straight_line_costs_nothing_on_any_axis(axis, level, slope):
    line = level + slope * (axis - axis[0])
    size = max(1.0, float(np.abs(line).max()) ** 2)
    steps = np.diff(axis)
    if steps.min() >= np.median(steps) / 16:
        assert line @ bending(axis) @ line == pytest.approx(0.0, abs=1e-6 * size * float(np.abs(bending(axis)).max()))


def test_breakpoints_that_nearly_touch_cost_a_bounded_sum():
    axis = np.array([600.0, 600.001, 1200, 1800, 2400])
    assert np.abs(bending(axis)).max() <= 4 * 16**4


@given(points)
def test_an_axis_is_continued_by_its_own_steps(points_):
    axis = Axis("engine_speed", "rpm", frozen(points_))
    longer = continued(axis).breakpoints
    assert longer[1:-1].tolist() == points_.tolist()
    assert (np.diff(longer) > 0).all()
    steps = np.diff(points_)
    assert points_[0] - longer[0] >= steps[0] * 0.999
    assert longer[-1] - points_[-1] >= steps[-1] * 0.999


def test_patches_know_their_corners_and_samples_their_node():
    net = net_of(make_table([[50.0, 60.0, 70.0], [55.0, 65.0, 75.0]]))
    corners = net.corners()
    assert (net.x.size, net.y.size) == (5, 4)
    assert corners.shape == (4, 12)
    assert corners[:, 0].tolist() == [0, 1, 5, 6]
    assert corners[:, -1].tolist() == [13, 14, 18, 19]
    assert net.kept.all()
    at = net.nearest(net.x.breakpoints[[0, 2, 4]], net.y.breakpoints[[0, 1, 3]])
    assert at.tolist() == [0, 7, 19]


def test_eigenvalues_are_those_of_the_whole_penalty():
    whole, values = net_of(make_table([[50.0, 60.0, 70.0], [55.0, 65.0, 75.0]])).penalty()
    assert np.sort(values) == pytest.approx(np.sort(np.linalg.eigvalsh(whole)), abs=1e-9)
