"""What foreign files cost: nothing in them makes a reader take longer than its size warrants."""

from __future__ import annotations

import gzip
import json
import signal
from collections.abc import Iterator
from contextlib import contextmanager

import bincopy
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from bench.zips import zipped
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Computed
from uchiwa.core.formulas.evaluation import Scope, Workings
from uchiwa.core.logs.readers import MOST_RECORDINGS, read_log, read_recordings, read_unrecognised
from uchiwa.core.logs.readers.clock import step_from_notes
from uchiwa.core.logs.readers.dialect import MOST_COLUMNS, is_number, note_of, split_unit
from uchiwa.core.logs.readers.packed import MOST_MEMBERS
from uchiwa.core.logs.recognition.recognise import recognise
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.image.memory import MOST_SEGMENTS, Memory, Segment
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.fleet import car_named


@contextmanager
def ends() -> Iterator[None]:
    """What does not come to an end within a minute is stopped; what grows with the square of these sizes takes hours."""

    def stop(*_: object) -> None:
        raise AssertionError("it does not come to an end")

    before = signal.signal(signal.SIGALRM, stop)
    signal.alarm(60)
    try:
        yield
    finally:
        signal.alarm(0)
        signal.signal(signal.SIGALRM, before)


SIZES = [2_000, 4_000, 8_000, 500_000]
HOSTILE = [
    lambda n: " " * n + "\n1,2\n",
    lambda n: "a" + " " * n + ",b\n1,2\n2,3\n",
    lambda n: "x (" * (n // 3) + ",rpm\n1,2\n2,3\n",
    lambda n: "Time [s],MAP" + " " * n + "\n0,1\n1,2\n",
    lambda n: "#" * n + ":\nTime [s],rpm\n0,1\n1,2\n",
    lambda n: "# sample rate: " + "1" * n + "x\nTime [s],rpm\n0,1\n1,2\n",
    lambda n: '"' * n + "\n1,2\n",
    lambda n: "1" * n + ",2\n1,2\n",
    lambda n: "\n\n1,2" * (n // 5),
    lambda n: "Time [s],MAP (kPa" + " (_" * (n // 3) + "\n0,1\n1,2\n",
]


@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("make", HOSTILE, ids=range(len(HOSTILE)))
def test_no_text_holds_a_reader_up(make, size):
    with ends():
        try:
            read_log(make(size).encode(), "drive.csv")
        except BadInput as error:
            assert len(str(error)) < 2000


@pytest.mark.parametrize("sign", list(" #\"'([{)]};:=_,1.ga\t"))
def test_the_scans_themselves_end(sign):
    text = sign * 300_000
    with ends():
        note_of(text)
        note_of(f"key{text}")
        split_unit(text)
        split_unit(f"name{text})")
        is_number(f"{text}!")
        step_from_notes({"sample rate": text})


@given(st.text(alphabet="# key:=;,|\t\"'", max_size=40))
def test_notes_are_keys_with_values(line):
    note = note_of(line)
    if note is not None:
        key, value = note
        assert key == key.strip().lower() != ""
        assert value in line
        assert value == value.strip()


def wide(columns: int, rows: int = 3) -> bytes:
    words = ("engine", "speed", "lambda", "bank 2", "measured", "fuel", "trim", "knock", "air", "temp", "MAP")
    names = ["Time [s]", "Engine speed [rpm]"]
    names += [f"{words[n % 11]} {words[n // 11 % 11]} {n} [kPa]" for n in range(columns - 2)]
    return "\n".join(
        [",".join(names), *(",".join(f"{row}.{n % 10}" for n in range(columns)) for row in range(rows))]
    ).encode()


def test_a_log_may_be_wide_and_not_wider():
    with ends():
        log = recognise(read_unrecognised(wide(MOST_COLUMNS), "wide.csv")[0])
        assert len(log.rasters[0].channels) == MOST_COLUMNS - 1
        with pytest.raises(BadInput, match=f"a log may have {MOST_COLUMNS}"):
            read_log(wide(MOST_COLUMNS + 1), "wider.csv")


def test_a_file_may_hold_many_recordings_and_not_more():
    rows = "".join(f"{time},1000\n" for time in (0, 1, 2, 3, 4))
    text = "Time [s],Engine speed [rpm]\n"
    assert len(read_recordings((text + rows * MOST_RECORDINGS).encode(), "day.csv")) == MOST_RECORDINGS
    with pytest.raises(BadInput, match=f"at most {MOST_RECORDINGS} are read from one file"):
        read_recordings((text + rows * (MOST_RECORDINGS + 1)).encode(), "year.csv")


def test_archives_in_archives_are_counted_together(monkeypatch):
    log = b"Time [s],Engine speed [rpm]\n0,1000\n1,1100\n"
    inner = {f"{n}.zip": zipped({f"{m}.csv": log for m in range(10)}) for n in range(10)}
    with pytest.raises(BadInput, match=f"more than {MOST_MEMBERS} files"):
        read_unrecognised(zipped(inner), "all.zip")
    monkeypatch.setattr("uchiwa.core.logs.readers.READ_LIMIT_BYTES", 1_000_000)
    bombs = {f"{n}.csv.gz": gzip.compress(log + b"2,1200\n" * 60_000) for n in range(6)}
    with pytest.raises(BadInput, match="more than 1 MB"):
        read_unrecognised(zipped(bombs), "bombs.zip")


def test_channels_that_rest_on_each_other_are_looked_at_once():
    def twice(name: str, depth: int) -> str:
        return name if depth == 0 else f"or_else({twice(name, depth - 1)}, {twice(name, depth - 1)})"

    channels = [Computed("c0", "c0", "lambda_measured + 1", "1")]
    channels += [Computed(f"c{n}", f"c{n}", twice(f"c{n - 1}", 4), "") for n in range(1, 12)]
    book = SHIPPED.with_channels(channels)
    time = np.arange(5.0)
    with ends():
        assert book.lacking("c11", {"engine_speed"}) == "λ measured"
        assert book.lacking("c11", {"lambda_measured"}) == ""
        assert np.allclose(Workings(time, {"lambda_measured": np.ones(5)}, scope=Scope(book=book)).channel("c11"), 2.0)
        with pytest.raises(BadInput, match="the log has no λ measured"):
            Workings(time, {"engine_speed": np.ones(5)}, scope=Scope(book=book)).channel("c11")


def test_a_channel_that_is_the_axis_of_the_table_it_reads_is_a_circle():
    calibration = car_named("bramble-wren").base()
    book = SHIPPED.with_channels([Computed("pressure_ratio", "p", 'table("volumetric_efficiency")', "1")])
    assert "engine_speed" in book.needs("pressure_ratio", calibration)
    signals = {"engine_speed": np.full(4, 2000.0)}
    with pytest.raises(BadInput, match="cannot be computed from itself"):
        Workings(np.arange(4.0), signals, Scope(calibration, None, book)).channel("pressure_ratio")


def scattered(records: int) -> bytes:
    lines, high = [], -1
    for number in range(records):
        address = number * 14
        if address >> 16 != high:
            high = address >> 16
            lines.append(bincopy.pack_ihex(4, 0, 2, high.to_bytes(2, "big")))
        lines.append(bincopy.pack_ihex(0, address & 0xFFFF, 1, b"\x11"))
    return "\n".join([*lines, bincopy.pack_ihex(1, 0, 0, b"")]).encode()


def test_an_image_in_many_pieces_is_read_or_refused_at_once():
    with ends():
        memory, _ = read_image(scattered(MOST_SEGMENTS), "image.hex")
        assert len(memory.segments) == MOST_SEGMENTS
        with pytest.raises(BadInput, match=f"at most {MOST_SEGMENTS} are taken"):
            read_image(scattered(300_000), "image.hex")


@given(st.lists(st.tuples(st.integers(0, 60), st.binary(min_size=1, max_size=6)), min_size=1, max_size=12))
def test_memory_is_the_same_however_its_pieces_come(pieces):
    flat: dict[int, int] = {}
    twice = False
    for start, data in pieces:
        for offset, byte in enumerate(data):
            twice = twice or start + offset in flat
            flat[start + offset] = byte
    if twice:
        with pytest.raises(BadInput, match="is given twice"):
            Memory.of(Segment(start, data) for start, data in pieces)
        return
    memory = Memory.of(Segment(start, data) for start, data in pieces)
    assert {segment.address + n: byte for segment in memory.segments for n, byte in enumerate(segment.data)} == flat
    assert all(one.end < two.address for one, two in zip(memory.segments, memory.segments[1:], strict=False))
    for address in flat:
        assert memory.read(address, 1)[0] == flat[address]
    changed = memory.with_bytes([(address, bytes([flat[address] ^ 255])) for address in flat])
    assert all(changed.read(address, 1)[0] == flat[address] ^ 255 for address in flat)


def test_many_constants_are_told_apart_at_once():
    constants = [{"id": f"c{n}", "role": "other", "value": 1, "unit": "1"} for n in range(60_000)]
    document = {"format": "uchiwa.calibration/1", "id": "a", "title": "b", "constants": constants, "tables": []}
    with ends():
        assert len(calibration_json.loads(json.dumps(document)).constants) == 60_000
        constants.append(constants[17])
        with pytest.raises(BadInput, match="“c17” is used twice"):
            calibration_json.loads(json.dumps(document))
