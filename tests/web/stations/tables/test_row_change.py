"""A row before and after, with its change as bars."""

from __future__ import annotations

import itertools

from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.web.stations.tables.row_change import HEIGHT, WIDTH, row_change

ROW = st.lists(st.floats(10, 120), min_size=3, max_size=3)


@given(ROW, ROW)
def test_bars_rise_where_the_row_grew_and_stay_in_the_box(before, after):
    drawn = row_change(make_table([after, after]), make_table([before, before]), 1)
    assert len(drawn.bars) == 3
    for old, new, bar in zip(before, after, drawn.bars, strict=True):
        assert bar.x >= 0
        assert bar.x + bar.width <= WIDTH
        assert bar.y >= 0
        assert bar.y + bar.height <= HEIGHT
        if new > old and bar.height > 0.2:
            assert bar.y < drawn.zero
        if new < old and bar.height > 0.2:
            assert bar.y >= drawn.zero - 0.11
    assert all(b.x >= a.x + a.width for a, b in itertools.pairwise(drawn.bars))


def test_a_row_that_did_not_change_has_flat_bars_and_one_line():
    same = make_table([[50, 60, 70], [60, 70, 80]])
    drawn = row_change(same, same, 0)
    assert drawn.before == drawn.after
    assert all(bar.height == 0 and bar.classes == "" for bar in drawn.bars)
    assert drawn.change_unit == "%"
