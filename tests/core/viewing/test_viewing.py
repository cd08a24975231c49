import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from tests.conftest import make_table
from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.drives import Drive, DriveKind
from uchiwa.core.viewing.alignment import Alignment, against_speed, at_speed, marker_times, places, usual_place
from uchiwa.core.viewing.arrangement import (
    PURPOSES,
    Arrangement,
    added,
    check_axes,
    completions,
    fitted,
    moved,
    parse,
    removed,
)
from uchiwa.core.viewing.axes import scales
from uchiwa.core.viewing.digits import digits
from uchiwa.core.viewing.limits import limits_of, passed
from uchiwa.core.viewing.moments import extreme, neighbour
from uchiwa.core.viewing.operating import moments_in, operating_point
from uchiwa.core.viewing.pyramid import InMemory, pyramid_of
from uchiwa.core.viewing.scatter import brushed, distribution, scatter
from uchiwa.core.viewing.window import MOST_POINTS, drawn, figures, index_at, value_at


def signal(size, seed, gaps=0.0):
    rng = np.random.default_rng(seed)
    time = np.cumsum(rng.choice([0.01, 0.02, 0.03], size))
    values = np.cumsum(rng.normal(0, 1, size)).round(2)
    values[rng.random(size) < gaps] = np.nan
    return time, values


@settings(max_examples=60)
@given(
    size=st.integers(1, 60_000),
    seed=st.integers(0, 50),
    gaps=st.sampled_from([0.0, 0.1, 0.97]),
    share=st.tuples(st.floats(0, 1), st.floats(0, 1)),
    points=st.sampled_from([100, 700, MOST_POINTS]),
    up=st.booleans(),
)
@example(size=19140, seed=1, gaps=0.0, share=(1.0, 0.5), points=100, up=False)
@example(size=18947, seed=0, gaps=0.0, share=(0.0, 0.5), points=100, up=False)
def test_no_zoom_loses_a_spike_or_draws_too_much(size, seed, gaps, share, points, up):
    time, values = signal(size, seed, gaps)
    start, end = (time[0] + one * (time[-1] - time[0]) for one in sorted(share))
    inside = np.flatnonzero((time >= start) & (time <= end))
    if inside.size:
        spike = int(inside[seed % inside.size])
        values[spike] = 1e6 if up else -1e6
    line = drawn(InMemory(time), InMemory(values), start, end, points)
    assert line.time.size <= points
    assert (np.diff(line.time) >= 0).all()
    if inside.size:
        assert (1e6 if up else -1e6) in line.values
        beyond = max(64, 2 * (inside.size + 128) / (points // 2 - 8)) * np.diff(time, prepend=time[0]).max()
        assert line.time[0] >= start - beyond
        assert line.time[-1] <= end + beyond
        seen = line.values[np.isfinite(line.values)]
        known = values[np.isfinite(values)]
        assert np.isin(seen, known).all()


@settings(max_examples=60)
@given(
    size=st.integers(1, 40_000),
    seed=st.integers(0, 40),
    gaps=st.sampled_from([0.0, 0.3]),
    ends=st.tuples(st.floats(0, 1), st.floats(0, 1)),
)
def test_figures_of_any_stretch_are_those_of_its_samples(size, seed, gaps, ends):
    _, values = signal(size, seed, gaps)
    first, last = sorted(int(end * size) for end in ends)
    found = figures(InMemory(values), first, last)
    part = values[first:last]
    part = part[np.isfinite(part)]
    assert found.count == part.size
    if part.size:
        assert (found.low, found.high) == (part.min(), part.max())
        assert found.mean == pytest.approx(part.mean(), abs=1e-9)
    else:
        assert found.mean is None


@settings(max_examples=80)
@given(size=st.integers(1, 5000), seed=st.integers(0, 40), share=st.floats(-0.1, 1.1))
def test_index_and_nearest_value_are_those_of_the_whole_signal(size, seed, share):
    time, values = signal(size, seed)
    moment = time[0] + share * (time[-1] - time[0])
    assert index_at(InMemory(time), moment) == np.searchsorted(time, moment)
    assert index_at(InMemory(time), moment, "right") == np.searchsorted(time, moment, side="right")
    on_sample = time[size // 2]
    assert index_at(InMemory(time), on_sample) == size // 2
    assert index_at(InMemory(time), on_sample, "right") == size // 2 + 1
    at, value = value_at(InMemory(time), InMemory(values), moment)
    assert abs(at - moment) == pytest.approx(np.abs(time - moment).min(), abs=1e-12)
    assert value == values[np.flatnonzero(time == at)[0]]


def test_a_pyramid_has_the_extremes_of_its_blocks():
    _, values = signal(70_000, 3, gaps=0.1)
    values[640:704] = np.nan
    for level, sums in pyramid_of(values):
        for number in (0, 10, level.size - 1):
            part = values[number * level.block : (number + 1) * level.block]
            known = part[np.isfinite(part)]
            assert sums.known[number] == known.size
            if known.size:
                assert (level.low[number], level.high[number]) == (known.min(), known.max())
                assert sums.total[number] == pytest.approx(known.sum())
            else:
                assert np.isnan(level.low[number])
    assert pyramid_of(values[:64]) == ()


def test_a_gap_in_the_recording_breaks_the_line():
    time = np.concatenate((np.arange(100) / 10, 60 + np.arange(100) / 10))
    line = drawn(InMemory(time), InMemory(np.ones(200)), 0, 100)
    assert np.isnan(line.values).sum() == 1
    long = np.concatenate((np.arange(20_000) / 50, 2000 + np.arange(20_000) / 50))
    assert np.isnan(drawn(InMemory(long), InMemory(np.ones(40_000)), 0, 3000).values).sum() == 1


def test_extremes_are_found_at_their_first_sample():
    time, values = signal(30_000, 5, gaps=0.05)
    values[20_001] = values[25_000] = 5000.0
    values[77] = -5000.0
    assert extreme(InMemory(time), InMemory(values), "highest") == (time[20_001], 5000.0)
    assert extreme(InMemory(time), InMemory(values), "lowest") == (time[77], -5000.0)
    assert extreme(InMemory(time), InMemory(np.full(30_000, np.nan)), "highest") is None


def test_next_and_previous_stretches():
    found = [(1.0, 2.0), (5.0, 5.0), (9.0, 12.0)]
    assert neighbour(found, 0.0, "next") == (0, (1.0, 2.0))
    assert neighbour(found, 1.0, "next") == (1, (5.0, 5.0))
    assert neighbour(found, 9.0, "next") is None
    assert neighbour(found, 9.0, "previous") == (1, (5.0, 5.0))
    assert neighbour(found, 1.0, "previous") is None
    assert neighbour([], 1.0, "next") is None


DRIVES = (
    Drive(DriveKind.ROLL_ON, 3.0, 30.0, "20 to 90 % throttle"),
    Drive(DriveKind.PULL, 40.0, 44.0, "2000 to 4000 rpm"),
    Drive(DriveKind.PULL, 60.0, 67.0, "1500 to 6200 rpm"),
)


def test_places_by_which_logs_are_aligned():
    pulls = places(Alignment.PULL, DRIVES, (), 100.0)
    assert [pull.start for pull in pulls] == [40.0, 60.0]
    assert usual_place(pulls) == 1
    assert [place.start for place in places(Alignment.PULL, DRIVES[:1], (), 100.0)] == [3.0]
    assert [place.start for place in places(Alignment.MARKER, DRIVES, (7.5, 9.0), 100.0)] == [7.5, 9.0]
    assert places(Alignment.MARKER, DRIVES, (), 100.0) == ()
    assert places(Alignment.TIME, DRIVES, (), 100.0)[0].end == 100.0
    assert marker_times(np.arange(6.0), np.array([0, 1, 1, 0, np.nan, 1.0])) == (1.0, 5.0)


def test_against_engine_speed():
    speed = np.linspace(2000, 4000, 9000)
    values = np.zeros(9000)
    values[5000] = 9.0
    line = against_speed(speed, values, 500)
    assert line.time.size <= 500
    assert 9.0 in line.values
    assert at_speed(np.array([1000.0, 2000.0, 3000.0]), np.array([10.0, 20.0, 40.0]), 2500.0) == pytest.approx(30.0)
    assert at_speed(np.array([1000.0, 2000.0]), np.array([10.0, 20.0]), 4000.0) is None


def test_the_operating_point_and_its_trail():
    table = make_table([[50.0, 60, 70], [80, 90, 100]])
    found = operating_point(table, np.array([1000.0, 1500.0, 2400.0]), np.array([40.0, 50.0, 80.0]))
    assert (found.i, found.j) == (1, 1)
    assert found.trail == ((0.0, 0.0), (0.5, 0.25), (1.4, 1.0))
    assert found.value == pytest.approx(94.0)
    off = operating_point(table, np.array([9000.0]), np.array([40.0]))
    assert off.i is None
    gap = operating_point(table, np.array([1500.0, np.nan]), np.array([40.0, 40.0]))
    assert (gap.i, gap.value, len(gap.trail)) == (None, None, 1)


def test_moments_in_cells():
    table = make_table([[50.0] * 3, [50.0] * 3])
    time = np.arange(8.0)
    x = np.array([1000, 1000, 2000, 2000, 1000, 3000, np.nan, 2000.0])
    y = np.full(8, 40.0)
    assert moments_in(table, time, x, y, [(1, 0)]) == [(2.0, 3.0), (7.0, 7.0)]
    assert moments_in(table, time, x, y, [(0, 0), (2, 0)]) == [(0.0, 1.0), (4.0, 5.0)]
    assert moments_in(table, time, x, y, [(9, 9)]) == []


@given(st.integers(1, 3000), st.integers(0, 20))
def test_a_cloud_counts_every_sample_and_brushing_finds_them_again(size, seed):
    rng = np.random.default_rng(seed)
    x, y, third = rng.normal(0, 1, size), rng.normal(0, 1, size), rng.normal(0, 1, size)
    y[rng.random(size) < 0.1] = np.nan
    use = rng.random(size) < 0.8
    found = scatter(x, y, third, use)
    wanted = use & np.isfinite(y)
    assert found.samples == int(found.count.sum()) == int(wanted.sum())
    time = np.arange(size) / 10
    _, count, seconds = brushed(time, x, y, use, (found.x_range, found.y_range))
    assert count == found.samples
    assert seconds == pytest.approx(count / 10) if size > 1 else True


def test_a_distribution_is_of_time_not_of_samples():
    time = np.array([0.0, 1.0, 2.0, 3.0, 3.1, 3.2, 3.3, 3.4])
    values = np.array([10.0, 10.0, 10.0, 20.0, 20.0, 20.0, 20.0, 20.0])
    found = distribution(time, values, np.ones(8, dtype=bool))
    assert found.total == pytest.approx(3 * 1.0 + 5 * 0.1, abs=0.01)
    assert found.seconds.sum() == pytest.approx(found.total)
    assert found.quantiles[2] == 10.0
    assert distribution(time, values, np.zeros(8, dtype=bool)) is None


@given(
    st.dictionaries(
        st.sampled_from(["rpm", "%"]),
        st.lists(
            st.tuples(st.floats(-1e5, 1e5), st.floats(0, 1e5)).map(lambda one: (one[0], one[0] + one[1])),
            min_size=1,
            max_size=4,
        ),
        min_size=1,
    ),
    st.integers(1, 6),
)
def test_both_axes_have_the_same_grid_lines_and_hold_their_traces(ranges, divisions):
    found = scales(ranges, divisions)
    assert {len(one.ticks) for one in found} == {divisions + 1}
    for one in found:
        spare = 1e-6 * (one.high - one.low)
        assert all(one.low <= low + spare and high <= one.high + spare for low, high in ranges[one.unit])
        steps = np.diff(one.ticks)
        assert steps == pytest.approx(np.full(divisions, steps[0]), rel=1e-6)


def test_an_axis_reads_well():
    (speed,) = scales({"rpm": [(780, 6332)]}, 4)
    assert speed.ticks == (0, 2000, 4000, 6000, 8000)
    (mixture,) = scales({"1": [(0.68, 1.36)]}, 4)
    assert mixture.ticks == (0.6, 0.8, 1.0, 1.2, 1.4)
    assert mixture.decimals == 1
    with pytest.raises(ValueError, match="2 axes"):
        scales({"a": [(0, 1)], "b": [(0, 1)], "c": [(0, 1)]}, 4)


UNITS = {
    "engine_speed": "rpm", "throttle_position": "%", "manifold_pressure": "kPa", "lambda_measured": "1",
    "lambda_target": "1", "short_term_trim": "%", "long_term_trim": "%", "fuel_error": "%",
}  # fmt: skip


def test_purposes_take_what_the_log_has():
    for purpose in PURPOSES:
        found = fitted(purpose, UNITS)
        check_axes(found, UNITS)
        assert set(found.traces) <= set(UNITS)
    assert str(fitted(PURPOSES[0], UNITS)) == (
        "engine_speed,throttle_position;manifold_pressure;lambda_measured,lambda_target;short_term_trim,long_term_trim,fuel_error"
    )


def test_traces_are_added_where_they_fit_moved_and_taken_out():
    one = parse("engine_speed;lambda_measured")
    assert added(one, "lambda_target", UNITS).strips[1] == ("lambda_measured", "lambda_target")
    assert added(one, "manifold_pressure", UNITS).strips[2] == ("manifold_pressure",)
    assert added(one, "engine_speed", UNITS) == one
    assert moved(one, "lambda_measured", -1, UNITS).strips == (("engine_speed", "lambda_measured"),)
    assert moved(one, "engine_speed", -1, UNITS).strips == (("engine_speed",), ("lambda_measured",))
    assert removed(one, "engine_speed").strips == (("lambda_measured",),)
    assert removed(Arrangement((("engine_speed",),)), "engine_speed").traces == ("engine_speed",)
    with pytest.raises(BadInput, match="an axis each for rpm, kPa, %"):
        moved(parse("engine_speed,manifold_pressure;throttle_position"), "throttle_position", -1, UNITS)
    for text, said in ((";;", "empty"), (";".join("abcdefghi"), "at most 8"), (",".join("abcdefg"), "of 6 traces")):
        with pytest.raises(BadInput, match=said):
            parse(text)


def test_names_are_completed_from_any_part():
    titles = {"lambda_measured": "λ measured", "lambda_target": "λ target", "engine_speed": "engine speed"}
    assert list(completions("targ", titles)) == ["lambda_target"]
    assert list(completions("lambda", titles)) == ["lambda_measured", "lambda_target"]
    assert list(completions("speed eng", titles)) == ["engine_speed"]
    assert list(completions("", titles, ["engine_speed"])) == ["lambda_measured", "lambda_target"]


def test_limits_have_names_and_the_gravest_counts():
    limits = limits_of(Thresholds())
    assert passed(limits, "injector_duty", 84.0) is None
    assert passed(limits, "injector_duty", 86.0).words == "injector duty is high"
    assert passed(limits, "injector_duty", 99.0).grave
    assert passed(limits, "short_term_trim", -12.0).words == "a large trim"
    assert passed(limits, "engine_speed", 9000.0) is None
    assert passed(limits, "injector_duty", None) is None
    assert passed(limits, "injector_duty", float("nan")) is None


@pytest.mark.parametrize(
    ("key", "unit", "low", "high", "expected"),
    [
        ("engine_speed", "rpm", 0, 7000, 0),
        ("lambda_measured", "1", 0.6, 1.4, 3),
        ("gear", "1", 1, 5, 0),
        ("afr_measured", "1", 10, 20, 2),
        (":Own", "furlong", 0, 0.0123, 5),
        (":Own", "", None, None, 2),
    ],
)
def test_digits_fit_the_unit(key, unit, low, high, expected):
    assert digits(key, unit, low, high) == expected
