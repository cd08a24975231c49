"""`bins` in the cell line: gathered figures as numbers of each cell."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.editing.area import Area
from uchiwa.core.tables.editing.expression import names_bins
from uchiwa.core.tables.editing.line import edited

TABLE = make_table([[50.0, 60.0, 70.0], [80.0, 90.0, 100.0]])
ALL = [(i, j) for j in range(2) for i in range(3)]


def test_half_an_error_is_multiplied_in_and_cells_without_evidence_stay():
    bins = np.array([[10.0, np.nan, -10.0], [np.nan, 0.0, 20.0]])
    after = edited(TABLE, Area.of(TABLE, ALL, frozenset()), "x*(1+bins/200)", bins=bins).table
    assert after.grid == pytest.approx(np.array([[52.5, 60.0, 66.5], [80.0, 90.0, 110.0]]))


@given(st.integers(0, 5000))
def test_it_gives_what_the_formula_says(seed):
    rng = np.random.default_rng(seed)
    bins = np.where(rng.random((2, 3)) < 0.6, rng.uniform(-9, 9, (2, 3)), np.nan)
    bins[0, 0] = 5.0
    chosen = [cell for cell in ALL if rng.random() < 0.7] or ALL
    if (0, 0) not in chosen:
        chosen.append((0, 0))
    after = edited(TABLE, Area.of(TABLE, chosen, frozenset()), "max(x + bins, 40) + 1", bins=bins).table.grid
    for j, i in np.ndindex(2, 3):
        told = (i, j) in chosen and np.isfinite(bins[j, i])
        wanted = round(max(TABLE.grid[j, i] + bins[j, i], 40) + 1, 1) if told else TABLE.grid[j, i]
        assert after[j, i] == pytest.approx(wanted, abs=0.051)


def test_without_a_gathering_the_word_is_not_known():
    with pytest.raises(BadInput, match="not known for a cell"):
        edited(TABLE, Area.of(TABLE, ALL, frozenset()), "x + bins")


def test_nothing_gathered_anywhere_changes_nothing():
    with pytest.raises(BadInput, match="changes nothing"):
        edited(TABLE, Area.of(TABLE, ALL, frozenset()), "x + bins", bins=np.full((2, 3), np.nan))


def test_the_word_is_told_from_others():
    assert names_bins("x*(1+bins/200)")
    assert not names_bins("x + cabins")
