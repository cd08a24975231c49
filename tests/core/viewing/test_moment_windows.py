from __future__ import annotations

import itertools

from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.viewing.moment_windows import LONGEST_S, SHORTEST_S, moment_windows

SPANS = st.lists(
    st.tuples(st.floats(0, 900), st.floats(0, 60)).map(lambda one: (one[0], min(one[0] + one[1], 900.0))), max_size=40
)


def test_two_seconds_are_seen_as_two_seconds():
    (window,) = moment_windows([(100.0, 102.0)], 0.0, 900.0)
    assert (window.start, window.end) == (98.5, 103.5)
    assert window.spans == ((100.0, 102.0),)


def test_a_moment_at_the_end_of_the_log_is_not_cut():
    (window,) = moment_windows([(899.0, 900.0)], 0.0, 900.0)
    assert (window.start, window.end) == (896.0, 900.0)


def test_neighbours_share_a_window_and_the_longest_come_first():
    found = moment_windows([(10.0, 12.0), (12.2, 12.4), (50.0, 50.1), (80.0, 83.0)], 0.0, 100.0, most=2)
    assert [len(one.spans) for one in found] == [2, 1]
    assert found[1].spans == ((80.0, 83.0),)


@given(SPANS, st.integers(1, 7))
def test_windows_are_alike_apart_and_within_the_log(spans, most):
    found = moment_windows(spans, 0.0, 900.0, most)
    assert len(found) <= most
    assert bool(found) == bool(spans)
    assert len({round(one.end - one.start, 6) for one in found}) <= 1
    for one in found:
        assert 0.0 <= one.start < one.end <= 900.0 + 1e-9
        assert SHORTEST_S - 1e-6 <= one.end - one.start <= LONGEST_S + 1e-6
        assert one.spans
        assert all(one.start <= a <= b <= one.end for a, b in one.spans)
    assert all(a.end <= b.start + 1e-9 for a, b in itertools.pairwise(found))


def test_nothing_is_drawn_of_nothing():
    assert moment_windows([], 0.0, 10.0) == ()
    assert moment_windows([(1.0, 2.0)], 3.0, 3.0) == ()
