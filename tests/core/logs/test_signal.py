"""Even time bases take a quicker path; it must give what the definition gives."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays

from uchiwa.core.logs.signal import rate, smooth, spans, within

VALUES = arrays(np.float64, st.integers(30, 120), elements=st.floats(-1e3, 1e3))
WINDOWS = st.sampled_from([0.1, 0.2, 0.4, 0.5, 1.0, 2.0])


@given(VALUES, WINDOWS)
def test_rate_is_the_difference_across_the_window(values, window):
    time = np.arange(values.size) * 0.05
    ahead, behind = np.minimum(time + window / 2, time[-1]), np.maximum(time - window / 2, time[0])
    wanted = (np.interp(ahead, time, values) - np.interp(behind, time, values)) / (ahead - behind)
    np.testing.assert_allclose(rate(time, values, window), wanted, atol=1e-6, rtol=1e-6)


@given(VALUES, WINDOWS)
def test_smooth_is_the_mean_within_the_window(values, window):
    time = np.arange(values.size) * 0.05
    wanted = [values[np.abs(time - at) <= window / 2 + 1e-6].mean() for at in time]
    np.testing.assert_allclose(smooth(time, values, window), wanted, atol=1e-6)


@given(VALUES, WINDOWS, st.randoms(use_true_random=False))
def test_smooth_on_uneven_times_is_the_same_mean(values, window, random):
    time = np.cumsum([random.uniform(0.01, 0.2) for _ in values])
    wanted = [values[np.abs(time - at) <= window / 2 + 1e-6].mean() for at in time]
    np.testing.assert_allclose(smooth(time, values, window), wanted, atol=1e-6)


@given(st.lists(st.booleans(), min_size=1, max_size=60))
def test_spans_and_within_undo_each_other(active):
    mask = np.array(active)
    time = np.arange(mask.size) * 0.5
    assert within(time, spans(time, mask)).tolist() == active


def test_spans_bridge_short_breaks_and_drop_short_stretches():
    time = np.arange(12.0)
    mask = np.array([0, 1, 1, 0, 1, 1, 0, 0, 0, 1, 0, 0], dtype=bool)
    assert spans(time, mask) == [(1, 2), (4, 5), (9, 9)]
    assert spans(time, mask, shortest=1) == [(1, 2), (4, 5)]
    assert spans(time, mask, shortest=1, bridge=2) == [(1, 5)]
