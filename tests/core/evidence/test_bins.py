import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.core.evidence.bins import Samples, bin_samples, shares

TABLE = make_table([[50.0] * 3, [50.0] * 3])


def gather(x, y, value, estimator="weighted", breaks=None):
    x, y, value = (np.array(one, dtype=float) for one in (x, y, value))
    steps = np.zeros(x.size, dtype=np.int64) if breaks is None else np.array(breaks)
    return bin_samples(TABLE.x, TABLE.y, Samples(x, y, value, np.full(x.size, 0.1), steps), estimator)


def test_nearest_by_hand():
    bins = gather([1000, 1400, 1600, 2000], [40, 40, 40, 79], [1.0, 1.2, 1.4, 1.6], "nearest")
    assert bins.mean[0, 0] == pytest.approx(1.1)
    assert bins.mean[0, 1] == pytest.approx(1.4)
    assert bins.mean[1, 1] == pytest.approx(1.6)
    assert bins.samples.tolist() == [[2, 1, 0], [0, 1, 0]]
    assert bins.dwell[0, 0] == pytest.approx(0.2)
    assert bins.spread[0, 0] == pytest.approx(np.std([1.0, 1.2], ddof=1))
    assert np.isnan(bins.mean[1, 0])


def test_weighted_by_hand():
    # A sample a quarter of the way from 1000 to 2000 rpm counts 0.75 and 0.25; one on the point counts 1.
    bins = gather([1250, 1000], [40, 40], [1.2, 1.0])
    assert bins.mean[0, 0] == pytest.approx((0.75 * 1.2 + 1.0) / 1.75)
    assert bins.mean[0, 1] == pytest.approx(1.2)
    assert bins.samples[0, 0] == pytest.approx(1.75)
    assert bins.samples[0, 1] == pytest.approx(0.25)
    assert bins.lowest[0, 0] == 1.0
    assert bins.highest[0, 0] == 1.2


@given(st.lists(st.tuples(st.floats(500, 3500), st.floats(20, 100), st.floats(0.5, 1.5)), min_size=1, max_size=60))
def test_no_sample_is_lost_or_counted_twice(samples):
    x, y, value = np.array(samples).T
    for estimator in ("nearest", "weighted"):
        bins = gather(x, y, value, estimator)
        assert bins.samples.sum() == pytest.approx(len(samples))
        assert bins.dwell.sum() == pytest.approx(0.1 * len(samples))
        assert np.nansum(bins.mean * bins.samples) == pytest.approx(value.sum())
        seen = np.isfinite(bins.mean)
        assert (bins.lowest[seen] - 1e-9 <= bins.mean[seen]).all()
        assert (bins.mean[seen] <= bins.highest[seen] + 1e-9).all()


@given(st.permutations(range(12)))
def test_means_do_not_depend_on_the_order(order):
    rng = np.random.default_rng(5)
    x, y, value = rng.uniform(1000, 3000, 12), rng.uniform(40, 80, 12), rng.uniform(0.9, 1.1, 12)
    one, other = gather(x, y, value), gather(x[list(order)], y[list(order)], value[list(order)])
    assert np.allclose(one.mean, other.mean, equal_nan=True)


def test_visits_are_separate_entries():
    x = [1000, 1000, 2000, 2000, 1000, 1000]
    assert gather(x, [40] * 6, [1.0] * 6, "nearest").visits.tolist() == [[2, 1, 0], [0, 0, 0]]
    broken = gather(x, [40] * 6, [1.0] * 6, "nearest", breaks=[0, 1, 1, 1, 1, 1])
    assert broken.visits[0, 0] == 3


def test_a_weighted_visit_lasts_while_the_sample_counts():
    # Sliding from 1000 to 2000 rpm and back never leaves the surroundings of either point.
    assert gather([1000, 1400, 1600, 1400], [40] * 4, [1.0] * 4).visits[0].tolist() == [1, 1, 0]


def test_weights_are_those_of_the_lookup():
    x, y = np.array([1250.0]), np.array([50.0])
    share = shares(TABLE.x, TABLE.y, x, y, "weighted")
    grid = np.arange(6.0).reshape(2, 3)
    by_weight = (share.weight[:, 0] * grid.ravel()[share.cell[:, 0]]).sum()
    assert by_weight == pytest.approx(TABLE.with_grid(grid).lookup(x, y)[0])


def test_samples_that_follow_each_other_are_not_independent():
    rng = np.random.default_rng(1)
    noise = rng.normal(size=4000)
    slow = np.empty(4000)
    slow[0] = noise[0]
    for k in range(1, 4000):
        slow[k] = 0.95 * slow[k - 1] + np.sqrt(1 - 0.95**2) * noise[k]
    free = gather([1000] * 4000, [40] * 4000, noise, "nearest").standard_error[0, 0]
    bound = gather([1000] * 4000, [40] * 4000, slow, "nearest").standard_error[0, 0]
    assert free == pytest.approx(1 / np.sqrt(4000), rel=0.1)
    # n' = n·(1 − ρ)/(1 + ρ) = 4000·0.05/1.95
    assert bound == pytest.approx(1 / np.sqrt(4000 * 0.05 / 1.95), rel=0.3)


def test_one_sample_has_no_standard_error():
    assert np.isnan(gather([1000], [40], [1.0], "nearest").standard_error[0, 0])


def test_no_samples_at_all():
    bins = gather([], [], [])
    assert bins.samples.sum() == 0
    assert np.isnan(bins.mean).all()
