"""What a program at the car sends: openings and batches, good and bad, and a clock that jumps."""

from __future__ import annotations

import json
from collections.abc import Callable
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.live.batch import MOST_BYTES, Batch, kept_batches, read_batch
from uchiwa.core.live.clock import SteadyClock
from uchiwa.core.live.opening import Opening
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers import live as live_reader
from uchiwa.core.logs.readers import read_log, read_unrecognised
from uchiwa.core.logs.readers.live import SessionReader, read_live

CHANNELS = [{"name": "Engine speed", "unit": "rpm", "rate": 25}, {"name": "Lambda measured", "unit": "1"}]
OPENING = {"format": "uchiwa.live/1", "channels": CHANNELS, "mark": "pike, revision 2"}


def line(number: int, rows: list[list[float | None]]) -> str:
    return json.dumps({"batch": number, "rows": rows})


def session(*batches: list[list[float | None]], marks: list[float] = ()) -> bytes:
    lines = [json.dumps(OPENING), *(line(n, rows) for n, rows in enumerate(batches, start=1))]
    return "\n".join([*lines, *([json.dumps({"marks": list(marks)})] if marks else [])]).encode() + b"\n"


@pytest.mark.parametrize(
    ("changed", "said"),
    [
        ({"channels": []}, "channels"),
        ({"channels": [{"name": ""}]}, "channels.0.name"),
        ({"channels": [*CHANNELS, {"name": "Engine speed"}]}, "two channels are called “Engine speed”"),
        ({"channels": [{"name": "x", "rate": 10_000}]}, "less than or equal to 200"),
        ({"channels": [{"name": f"c{n}"} for n in range(201)]}, "200"),
        ({"format": "other/1"}, "format"),
        ({"speed": 1}, "speed"),
    ],
)
def test_an_opening_is_refused_with_what_is_wrong(changed, said):
    with pytest.raises(BadInput, match=said) as error:
        Opening.read(OPENING | changed)
    assert "docs/live.md" in str(error.value) or "name of its own" in str(error.value)


def test_an_opening_that_is_no_json():
    with pytest.raises(BadInput, match="not JSON"):
        Opening.loads("{" * 5000)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("no", "not JSON"),
        ('{"batch": 1}', "“batch” and “rows”"),
        ('{"batch": 0, "rows": [[0, 1, 2]]}', "whole number"),
        ('{"batch": true, "rows": [[0, 1, 2]]}', "whole number"),
        ('{"batch": 1, "rows": []}', "no rows"),
        ('{"batch": 1, "rows": [[0, 1]]}', "row 1 has 1 readings, and the session began with 2 channels"),
        ('{"batch": 1, "rows": [[0, 1, 2], [0.1, 1, 2, 3]]}', "row 2 has 3 readings"),
        ('{"batch": 1, "rows": [[null, 1, 2]]}', "row 1 has no time"),
        ('{"batch": 1, "rows": [[NaN, 1, 2]]}', "row 1 has no time"),
        ('{"batch": 1, "rows": [[0, "1", 2]]}', "every cell is a number"),
        ('{"batch": 1, "rows": [[0, [1], 2]]}', "every cell is a number"),
        (f'{{"batch": 1, "rows": [[0, 1{"0" * 400}, 2]]}}', "too large"),
        (line(1, [[n / 10_000, 1, 2] for n in range(100)]), "10000 rows a second"),
        (line(1, [[0, 1, 2]] * 30), "all have one time"),
        (line(1, [[n, 1, 2] for n in range(2001)]), "2001 rows"),
        ("x" * (MOST_BYTES + 1), "too large"),
    ],
)
def test_a_batch_is_refused_with_what_is_wrong(text, said):
    with pytest.raises(BadInput, match=said):
        read_batch(text, 2)


def test_what_is_no_number_is_no_reading():
    found = read_batch('{"batch": 3, "rows": [[0.5, NaN, null], [0.6, Infinity, 1e300]]}', 2)
    assert found.number == 3
    assert np.isnan(found.rows[:, 1:]).all()
    assert found.gaps == 3
    assert found.rows[:, 0].tolist() == [0.5, 0.6]


READING = st.one_of(st.none(), st.floats(-1e6, 1e6))


@given(
    st.lists(st.lists(st.tuples(st.floats(0, 1e4), READING, READING), min_size=1, max_size=4), min_size=1, max_size=5)
)
def test_kept_batches_are_one_with_the_rows_of_all(parts):
    (found,) = kept_batches([line(n, rows).encode() + b"\n" for n, rows in enumerate(parts, start=7)])
    assert found.number == 6 + len(parts)
    expected = np.array([[np.nan if one is None else one for one in row] for rows in parts for row in rows])
    assert np.array_equal(found.rows, expected, equal_nan=True)


def test_a_line_that_is_no_batch_costs_the_others_nothing():
    lines = [line(1, [[0, 1, 2]]).encode(), b'{"batch": 2, "rows": 5}', b"{", line(4, [[1, 1e300, 2]]).encode()]
    found = kept_batches(lines)
    assert [one.number for one in found] == [1, 4]
    assert np.isnan(found[1].rows[0, 1])
    assert kept_batches([]) == []


def test_a_steady_clock_goes_through_as_it_is():
    clock = SteadyClock()
    first, kept = clock.take(np.array([7.0, 7.04, 7.08]))
    later, _ = clock.take(np.array([7.12, 9.5]))
    assert first.tolist() == [0.0, 7.04 - 7.0, 7.08 - 7.0]
    assert later.tolist() == [7.12 - 7.0, 2.5]
    assert kept.all()
    assert clock.jumps == []


def test_a_clock_that_was_set_loses_no_row():
    clock = SteadyClock()
    clock.take(np.array([100.0, 100.1, 100.2]))
    back, kept = clock.take(np.array([3.0, 3.1]))  # an hour back, say
    assert kept.all()
    assert back == pytest.approx([0.3, 0.4])
    ahead, kept = clock.take(np.array([1_000_000.0, 1_000_000.1]))
    assert kept.all()
    assert ahead == pytest.approx([10.4, 10.5])
    assert clock.jumps == pytest.approx([0.3, 10.4])


def test_rows_that_come_twice_are_left_out():
    clock = SteadyClock()
    times, kept = clock.take(np.array([0.0, 0.1, 0.2, 0.15, 0.2, 0.3]))
    assert times == pytest.approx([0.0, 0.1, 0.2, 0.3])
    assert kept.tolist() == [True, True, True, False, False, True]
    assert clock.dropped == 2


@given(
    st.lists(st.floats(-1e6, 1e6, allow_nan=False), min_size=1, max_size=60),
    st.lists(st.integers(1, 59), max_size=5),
)
def test_steadied_times_rise_however_rows_are_parted(raw, cuts):
    whole, _ = SteadyClock().take(np.array(raw))
    clock, parts = SteadyClock(), []
    edges = sorted({0, *(cut for cut in cuts if cut < len(raw)), len(raw)})
    for first, last in pairwise(edges):
        parts.append(clock.take(np.array(raw[first:last]))[0])
    assert np.concatenate(parts) == pytest.approx(whole, abs=1e-6)
    assert (np.diff(whole) > 0).all()


def test_a_session_is_read_as_a_log():
    found = read_log(
        session([[5, 850, 1.0], [5.04, 860, None]], [[5.08, 870, 0.9], [5.12, 880, 0.91]], marks=[0.05]), "x"
    )
    speed = found.quantities["engine_speed"]
    assert speed.values.tolist() == [850, 860, 870, 880]
    assert found.rasters[0].time == pytest.approx([0, 0.04, 0.08, 0.12])
    assert found.quantities["lambda_measured"].values.tolist() == [1.0, 0.9, 0.91]  # a time base of its own
    assert found.quantities["marker"].values.tolist() == [0, 1, 0, 0]
    assert found.notes["revision"] == "pike, revision 2"


def test_batches_that_cannot_be_read_are_said_and_cost_nothing_else():
    data = (
        session([[0, 850, 1.0]], [[0.1, 851, 1.0]]).replace(b'{"batch": 2', b'{"batch": 2, "x": 1')
        + line(3, [[0.2, 852, 1.0], [0.3, 853, 1.0]]).encode()
    )
    (found,) = read_unrecognised(data, "x")
    assert found.rasters[0].time == pytest.approx([0, 0.2, 0.3])
    assert [repair.said for repair in found.repairs] == ["1 of 3 batches could not be read"]


def test_a_batch_that_came_twice_counts_once():
    data = session([[0, 850, 1.0]], [[0.1, 851, 1.0]]) + line(2, [[0.1, 851, 1.0]]).encode() + b"\n"
    (found,) = read_unrecognised(data, "x")
    assert found.rasters[0].time == pytest.approx([0, 0.1])


@pytest.mark.parametrize("data", [b"", b'{"batch": 1, "rows": [[0, 1, 2]]}\n'])
def test_a_session_without_rows_is_refused(data):
    with pytest.raises(BadInput, match="fewer than two rows"):
        read_unrecognised(json.dumps(OPENING).encode() + b"\n" + data, "x")


STEPS = st.sampled_from([0.02, 0.1, 1.0, 30.0, 0.0, -0.01, -500.0, 5000.0])
READINGS = st.one_of(st.none(), st.integers(0, 4000), st.floats(0.7, 1.4))
ROWS = st.lists(st.tuples(STEPS, READINGS, READINGS), min_size=1, max_size=6)
WRONG = st.sampled_from([b"", b"  ", b"{", b'{"batch": 3, "rows": [[1]]}', b'{"marks": "x"}', b'{"marks": [0.5, "y"]}'])


@given(
    batches=st.lists(st.one_of(ROWS, WRONG), max_size=14),
    again=st.lists(st.integers(1, 8), max_size=3),
    looks=st.lists(st.integers(0, 17), max_size=4),
)
def test_a_session_read_as_it_comes_is_what_its_file_is_read_as(batches, again, looks):
    """Whatever comes, whenever it is looked at: a look changes nothing of what comes later."""
    at, number, lines = 0.0, 0, []
    for batch in batches:
        if isinstance(batch, bytes):
            lines.append(batch)
            continue
        rows = []
        for step, *readings in batch:
            at += step
            rows.append([round(at, 3), *readings])
        number += 1
        lines.append(line(number, rows).encode())
    lines += [kept for repeated in again for kept in lines[repeated - 1 : repeated]]
    opening = json.dumps(OPENING).encode()
    reader = SessionReader(opening)
    for place, one in enumerate(lines):
        if place in looks:
            outcome(lambda: reader.log("live"))
        reader.add([one])
    assert outcome(lambda: reader.log("live")) == outcome(lambda: read_live(b"\n".join([opening, *lines]), "live")[0])


def outcome(read: Callable[[], Log]) -> object:
    """What a log holds, or the words of a refusal."""
    try:
        log = read()
    except BadInput as error:
        return str(error)
    channels = [
        [(channel.name, channel.unit, channel.values.tobytes()) for channel in raster.channels]
        + [raster.time.tobytes()]
        for raster in log.rasters
    ]
    return (log.name, dict(log.notes), log.repairs, channels)


def test_a_line_is_read_once_however_often_the_session_is_looked_at(monkeypatch):
    read: list[bytes] = []

    def counted(data: bytes, channels: int) -> Batch:
        read.append(data)
        return read_batch(data, channels)

    monkeypatch.setattr(live_reader, "read_batch", counted)
    reader = SessionReader(json.dumps(OPENING).encode())
    lines = [
        line(number, [[number / 10 + 0.05 * part, 800.0, 1.0] for part in range(2)]).encode() for number in range(1, 9)
    ]
    for one in lines:
        reader.add([one])
        assert reader.log("live").rasters[0].time.size == 2 * len(read)
    assert read == lines
