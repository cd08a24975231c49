from __future__ import annotations

import itertools

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.web.svg.scale import Scale, broken_path, moved_apart, polyline, spread_out

VALUES = st.floats(-1e5, 1e5)


def test_a_value_stands_where_it_should():
    up = Scale(0.0, 10.0, 200.0, 100.0)
    assert [up.at(value) for value in (0.0, 5.0, 10.0, 20.0)] == [200.0, 150.0, 100.0, 0.0]
    assert up.held(20.0) == 100.0
    assert up.held(-3.0) == 200.0
    assert up.places(np.array([1.0, np.nan])).tolist()[0] == 190.0


@given(VALUES, st.floats(0.01, 1e5), st.integers(2, 8))
def test_ticks_lie_on_the_scale(low, span, about):
    scale = Scale(low, low + span, 300.0, 20.0)
    ticks = scale.ticks(about)
    assert all(20.0 - 0.1 <= tick.at <= 300.0 + 0.1 for tick in ticks)
    assert len({tick.text for tick in ticks}) == len(ticks)


def test_ticks_are_written_with_a_true_minus_a_sign_and_a_unit_if_wished():
    assert [tick.text for tick in Scale(-1.0, 1.0, 0.0, 1.0).ticks(2)] == ["−1", "0", "1"]
    assert [tick.text for tick in Scale(-1.0, 1.0, 0.0, 1.0).ticks(2, signed=True, unit="°")] == ["−1°", "0°", "+1°"]


@given(st.lists(st.one_of(VALUES, st.just(float("nan"))), max_size=9), st.floats(0, 0.5), st.floats(0, 10))
def test_a_scale_around_values_holds_them_all(values, spare, least):
    every = np.array(values)
    scale = Scale.around(every, 100.0, 0.0, spare=spare, least=least)
    assert scale.high > scale.low
    known = every[np.isfinite(every)]
    slack = 1e-9 * (1 + np.abs(known).max(initial=0))
    assert scale.high - scale.low >= least - slack
    assert (known >= scale.low - slack).all()
    assert (known <= scale.high + slack).all()


def test_a_curve_breaks_where_nothing_is_known():
    assert broken_path(np.array([0.0, 1, 2, 3]), np.array([5.0, np.nan, 6, 7])) == "M0.0 5.0M2.0 6.0L3.0 7.0"
    assert broken_path(np.array([0.0]), np.array([np.nan])) == ""
    assert polyline(np.array([0.0, 1, 2]), np.array([5.0, np.nan, 6])) == "0.0,5.0 2.0,6.0"


@given(st.lists(st.floats(0, 100), min_size=1, max_size=9))
def test_labels_near_each_other_do_not_overlap(places):
    moved = moved_apart(places, 11.0)
    heights = sorted(moved)
    assert all(b - a >= 11.0 - 1e-9 for a, b in itertools.pairwise(heights))
    assert all(after >= before for before, after in zip(places, moved, strict=True))


@given(st.lists(st.floats(0, 500), max_size=20))
def test_labels_that_would_touch_are_left_out(places):
    found = spread_out(np.sort(np.array(places)), [str(place) for place in sorted(places)], 30.0)
    assert all(b.at - a.at >= 30.0 - 0.11 for a, b in itertools.pairwise(found))
    assert bool(found) == bool(places)
