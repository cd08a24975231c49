from __future__ import annotations

import numpy as np

from uchiwa.core.evidence.used_at import used_at


def test_the_nearest_sample_decides_and_far_ones_do_not():
    time = np.array([0.0, 0.1, 0.2, 0.3, 5.0])
    used = np.array([True, False, True, True, True])
    moments = np.array([0.04, 0.09, 0.21, 0.44, 0.6, 4.9, 9.0])
    assert used_at(time, used, moments).tolist() == [True, False, True, True, False, True, False]


def test_without_samples_nothing_is_used():
    assert not used_at(np.zeros(0), np.zeros(0, dtype=bool), np.array([1.0])).any()
