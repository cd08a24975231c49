"""Bins of anything: equal to numpy's own, by any formula, axes, conditions and rates."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.gather import bins_of, gather_samples
from uchiwa.core.evidence.gathering import Gathering, Statistic, gathered
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.standin.cars import pike_base

BASE = pike_base()
TABLE = BASE.table("ve_main")


def drive(seed: int, rate: float = 20.0, size: int = 800) -> Log:
    rng = np.random.default_rng(seed)
    knots = np.arange(0, size + 100, 50)
    return make_log(
        rate, f"drive {seed}.csv",
        engine_speed=np.interp(np.arange(size), knots, rng.uniform(500, 7000, knots.size)),
        manifold_pressure=np.interp(np.arange(size), knots, rng.uniform(15, 190, knots.size)),
        throttle_position=rng.uniform(0, 100, size), lambda_measured=1 + 0.05 * rng.normal(size=size), lambda_target=1.0,
        short_term_trim=rng.normal(0, 3, size),
    )  # fmt: skip


def by_numpy(logs: list[Log], asked: Gathering, statistic: Statistic) -> np.ndarray:
    """The same with numpy alone, samples counting in the nearest cell."""
    cells: dict[tuple[int, int], list[float]] = {}
    times: dict[tuple[int, int], float] = {}
    for log in logs:
        time, signals = on_one_base(log)
        step = np.diff(time, append=2 * time[-1] - time[-2])
        value = signals["short_term_trim"] * 2 + 1
        for at in range(time.size):
            x, y = signals["engine_speed"][at], signals["manifold_pressure"][at]
            if asked.where and not signals["throttle_position"][at] < 40:
                continue
            if not (TABLE.x.covers(np.array([x]))[0] and TABLE.y.covers(np.array([y]))[0]):
                continue
            cell = int(TABLE.y.nearest(np.array([y]))[0]), int(TABLE.x.nearest(np.array([x]))[0])
            cells.setdefault(cell, []).append(float(value[at]))
            times[cell] = times.get(cell, 0.0) + float(step[at])
    figure = {
        Statistic.MEAN: np.mean, Statistic.LOWEST: np.min, Statistic.HIGHEST: np.max, Statistic.COUNT: len,
        Statistic.LAST: lambda values: values[-1], Statistic.SCATTER: lambda values: np.std(values, ddof=1),
        Statistic.QUANTILE: lambda values: np.quantile(values, asked.quantile / 100),
    }  # fmt: skip
    found = np.full(TABLE.shape, np.nan)
    for cell, values in cells.items():
        if len(values) >= asked.least_samples:
            found[cell] = times[cell] if statistic is Statistic.TIME else figure[statistic](values)
    return found


@settings(max_examples=25)
@given(st.integers(0, 10_000), st.sampled_from(list(Statistic)), st.booleans(), st.integers(2, 20))
def test_every_figure_is_numpys_over_logs_of_several_rates(seed, statistic, some, least):
    logs = [drive(seed, 20.0), drive(seed + 1, 50.0), drive(seed + 2, 8.0, 300)]
    asked = Gathering(
        value="short_term_trim * 2 + 1", table="ve_main", statistic=statistic, estimator="nearest",
        where="throttle_position < 40" if some else "", least_samples=least, quantile=float(seed % 101),
    )  # fmt: skip
    mine, other = gathered(logs, BASE, asked).figure, by_numpy(logs, asked, statistic)
    assert (np.isfinite(mine) == np.isfinite(other)).all()
    assert np.nan_to_num(mine) == pytest.approx(np.nan_to_num(other), rel=1e-9, abs=1e-9)


@pytest.mark.parametrize("estimator", ["nearest", "weighted", "surface"])
def test_the_mean_is_the_commands(estimator):
    logs = [drive(1), drive(2, 50.0)]
    asked = Gathering(value="lambda_measured / lambda_target", table="ve_main", estimator=estimator, least_samples=0,
                      where="throttle_position < 60; engine_speed > 1000")  # fmt: skip
    mine = gathered(logs, BASE, asked)
    samples = gather_samples(logs, TABLE, asked.value, asked.conditions, Scope(BASE))
    bins, used, total = bins_of(samples, TABLE, estimator), samples.value.size, samples.total
    assert (mine.samples.value.size, mine.total) == (used, total)
    seen = bins.samples > 0
    assert mine.figure[seen] == pytest.approx(bins.mean[seen], rel=1e-12)
    assert used + sum(mine.left_out.values()) == total


def test_axes_of_ones_own_and_a_curve():
    asked = Gathering(value="throttle_position", x_quantity="engine_speed", x_points="1000 3000 5000", least_samples=1)
    curve = gathered([drive(3)], BASE, asked)
    assert curve.axes.shape == (1, 3)
    grid = gathered(
        [drive(3)], BASE, asked.model_copy(update={"y_quantity": "throttle_position", "y_points": "0 50 100"})
    )
    assert grid.axes.shape == (3, 3)
    assert grid.figure[2, 1] > grid.figure[0, 1]


def test_of_several_rates_in_one_log_the_slower_is_joined():
    fast = drive(5)
    slow = np.arange(0, 40, 0.25)
    raster = Raster(slow, (Channel("oil", "degC", 60 + slow, "oil_temperature"),))
    found = gathered(
        [Log("two.csv", (*fast.rasters, raster))], BASE, Gathering(value="oil_temperature", table="ve_main")
    )
    known = found.figure[np.isfinite(found.figure)]
    assert known.size
    assert known.min() >= 60
    assert known.max() <= 100


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"table": "nothing"}, "no table"),
        ({"x_quantity": "engine_speed", "x_points": "3000 1000"}, "numbers that rise"),
        ({"x_quantity": "magic", "x_points": "1 2"}, "no quantity"),
        ({"table": "ve_main", "value": "oil_temperature"}, "oil"),
        ({"table": "ve_main", "where": "throttle_position"}, "condition"),
    ],
)
def test_what_cannot_be_gathered_is_one_sentence(changes, words):
    with pytest.raises(BadInput, match=words):
        gathered([drive(1)], BASE, Gathering(**({"value": "engine_speed"} | changes)))
