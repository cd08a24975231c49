import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table

TABLE = make_table([[10.0, 20.0, 30.0], [50.0, 60.0, 70.0]])


def test_lookup_by_hand():
    # Halfway between 1000 and 2000 rpm, a quarter of the way from 40 to 80 kPa: 15·0.75 + 55·0.25.
    assert TABLE.lookup(np.array([1500.0]), np.array([50.0]))[0] == pytest.approx(25.0)


def test_lookup_holds_the_edges():
    found = TABLE.lookup(np.array([0.0, 9000.0]), np.array([0.0, 500.0]))
    assert found.tolist() == [10.0, 70.0]


@given(st.floats(0, 4000), st.floats(0, 120))
def test_lookup_lies_between_the_corners(x, y):
    assert 10.0 - 1e-9 <= TABLE.lookup(np.array([x]), np.array([y]))[0] <= 70.0 + 1e-9


def test_nearest_has_its_borders_midway():
    assert TABLE.x.nearest(np.array([1499.9, 1500.0, 2499.9, 2500.0, -5.0, 9e9])).tolist() == [0, 1, 1, 2, 0, 2]


def test_covers_half_a_cell_beyond_the_ends():
    assert TABLE.x.covers(np.array([499.0, 500.0, 3500.0, 3501.0])).tolist() == [False, True, True, False]


def test_rounding_keeps_decimals_and_limits():
    assert TABLE.rounded(np.array([12.34, -5.0, 900.0])).tolist() == [12.3, 0.0, 160.0]


def test_values_cannot_be_changed_in_place():
    with pytest.raises(ValueError, match="read-only"):
        TABLE.grid[0, 0] = 1.0
