"""A place on an axis is found the same way whatever the axis."""

from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.evidence import kernels

steps = st.lists(st.sampled_from([1e-7, 0.01, 0.5, 40.0, 1e4]), min_size=0, max_size=30)


@given(st.floats(-500, 500), steps, st.lists(st.floats(-1e6, 1e6), max_size=20))
def test_a_ruler_counts_the_borders_at_or_below_a_value(first, rising, elsewhere):
    borders = np.unique(first + np.cumsum([0.0, *rising]))
    made = kernels.ruler(borders)
    values = np.concatenate([borders, np.nextafter(borders, -np.inf), np.nextafter(borders, np.inf), elsewhere])
    found = [kernels.above(made.base, made.border, made.low, made.per, value) for value in values]
    assert found == np.searchsorted(borders, values, side="right").tolist()


def test_no_border_at_all():
    made = kernels.ruler(np.empty(0))
    assert kernels.above(made.base, made.border, made.low, made.per, 12.0) == 0
