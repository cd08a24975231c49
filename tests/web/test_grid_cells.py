"""Cells as they stand in forms, and numbers as the grid shows them."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from uchiwa.core.errors import BadInput
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.grid.table_grid import Drawn, _texts

PLACES = st.tuples(st.integers(0, 10**18 - 1), st.integers(0, 10**18 - 1))
NUMBERS = st.one_of(st.floats(-1e6, 1e6), st.sampled_from([0.0, -0.0, 0.04, -0.04, 0.05, -0.05, 10.0, -10.0, 100.04]))


@given(cells=st.lists(PLACES, max_size=30), space=st.sampled_from([" ", "\n", "  \t "]))
def test_cells_come_back_as_they_were_written(cells, space):
    assert parse_cells(space.join(f"{i}.{j}" for i, j in cells)) == cells


@pytest.mark.parametrize(
    "wrong",
    ["5", "5.", ".4", "5;4", "5.4.3", "-1.2", "1.-2", "²5.3", "5.²", "٥.٣", "1e3.2", "+1.2", "1_0.2", "1." + "9" * 19],
)
def test_what_is_no_cell_is_said_wherever_it_stands(wrong):
    for text in (wrong, f"1.2 {wrong}", f"{wrong} 3.4"):
        with pytest.raises(BadInput, match="is not a cell"):
            parse_cells(text)


@given(
    values=arrays.arrays(np.float64, st.tuples(st.integers(0, 4), st.integers(1, 5)), elements=NUMBERS),
    decimals=st.integers(0, 3),
    signed=st.booleans(),
)
def test_each_number_is_shown_as_alone_and_zero_without_a_sign(values, decimals, signed):
    form = f"%{'+' if signed else ''}.{decimals}f"
    shown = _texts(values, form)
    assert shown.shape == values.shape
    zero = f"{0.0:.{decimals}f}"
    for text, value in zip(shown.ravel().tolist(), values.ravel().tolist(), strict=True):
        alone = form % value
        assert text == (zero if alone.lstrip("+-") == zero else alone.replace("-", "−"))


@given(data=st.data(), shape=st.tuples(st.integers(1, 4), st.integers(1, 4)))
def test_cells_that_look_different_are_told_with_their_places(data, shape):
    def drawing() -> Drawn:
        texts, classes = (
            data.draw(arrays.arrays(object, shape, elements=st.sampled_from(few))) for few in (["1", "2"], ["a", "b"])
        )
        return Drawn(texts, classes)

    before, after = drawing(), drawing()
    told = before.changed(after)
    found = {(i, j): (text, classes) for i, j, text, classes in told}
    assert len(found) == len(told)
    for j in range(shape[0]):
        for i in range(shape[1]):
            was, is_ = ((one.text[j, i], one.classes[j, i]) for one in (before, after))
            assert found.get((i, j)) == (is_ if was != is_ else None)
    other = Drawn(np.full((5, 5), "", dtype=object), np.full((5, 5), "", dtype=object))
    assert before.changed(other) == []
