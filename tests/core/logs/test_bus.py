"""Recordings of a bus: the same log as the logger's own text, within what the DBC resolves; and what is said of others."""

from __future__ import annotations

import struct
import time

import can.io.blf
import cantools
import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers import read_log, read_unrecognised
from uchiwa.core.logs.readers.bus.bits import raw_numbers
from uchiwa.core.logs.readers.bus.database import read_database
from uchiwa.core.logs.readers.bus.decode import BusDescription, decoded
from uchiwa.core.logs.readers.bus.frames import BusKind, Frames, bus_kind, read_frames
from uchiwa.standin.bus import ENDINGS, dbc_of, write_bus
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate


@pytest.fixture(scope="module")
def drive():
    """What the Pike's own logger wrote, as text and as the log it is before anything is recognised."""
    car = car_named("corvid-pike")
    text = car.logger.write(simulate(car, car.base(), "warm_idle", 1))
    return text, read_unrecognised(text, "own.csv")[0]


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_drive_on_the_bus_is_the_same_log(drive, ending):
    text, raw = drive
    own = read_log(text, "own.csv")
    heard = read_log(write_bus(raw, ending), f"bus.{ending}", buses=(BusDescription("car.dbc", dbc_of(raw)),))
    assert set(heard.quantities) == set(own.quantities)
    assert "car.dbc, which knows 100% of the frames" in heard.notes["bus description"]
    for quantity, channel in own.quantities.items():
        found = heard.quantities[quantity]
        raster = next(one for one in heard.rasters if found in one.channels)
        assert raster.time == pytest.approx(own.rasters[0].time - own.rasters[0].time[0], abs=2e-6)
        assert found.values == pytest.approx(channel.values, abs=1e-6), quantity


def _words(numbers):
    return np.array(numbers, dtype=np.uint8)


@given(
    st.integers(1, 64), st.integers(0, 63), st.booleans(), st.booleans(),
    st.lists(st.binary(min_size=8, max_size=8), min_size=1, max_size=4),
)  # fmt: skip
def test_bits_are_those_of_a_library(length, start, little, signed, frames):
    """Against cantools' own decoding, over signals and bytes drawn at random."""
    data = np.frombuffer(b"".join(frames), dtype=np.uint8).reshape(-1, 8)
    order = 1 if little else 0
    text = f'VERSION ""\n\nBU_: X\n\nBO_ 1 M: 8 X\n SG_ S : {start}|{length}@{order}{"-" if signed else "+"} (1,0) [0|0] "" X\n'
    try:
        message = cantools.database.load_string(text, "dbc").get_message_by_name("M")
    except cantools.Error:  # it does not fit into eight bytes
        with pytest.raises(ValueError, match="outside"):
            raw_numbers(data, start, length, little=little, signed=signed)
        return
    wanted = [float(message.decode(frame, decode_choices=False)["S"]) for frame in frames]
    assert raw_numbers(data, start, length, little=little, signed=signed).tolist() == wanted


MULTIPLEXED = """VERSION ""

BU_: X

BO_ 2566844944 Wide: 8 X
 SG_ Which M : 0|8@1+ (1,0) [0|0] "" X
 SG_ Speed m0 : 8|16@1+ (0.25,0) [0|0] "rpm" X
 SG_ Oil m1 : 8|8@1+ (1,-40) [0|0] "degC" X
 SG_ Both : 32|16@1- (0.5,10) [0|0] "V" X
"""


def _frames(rows, extended=False, width=8):
    times, ids, content = zip(*rows, strict=True)
    data = np.zeros((len(rows), width), dtype=np.uint8)
    for row, one in enumerate(content):
        data[row, : len(one)] = list(one)
    return Frames(
        np.array(times, dtype=float), np.array(ids, dtype=np.int64), np.full(len(rows), extended),
        np.array([len(one) for one in content]), data,
    )  # fmt: skip


def test_a_multiplexed_message_of_29_bits_has_a_time_base_for_each_choice():
    rows = [
        (0.0, 0x18FEF210, b"\x00\x10\x27\x00\x04\x00\x00\x00"), (0.1, 0x18FEF210, b"\x01\x78\x00\x00\xfe\xff\x00\x00"),
        (0.2, 0x18FEF210, b"\x00\x20\x4e\x00\x00\x00\x00\x00"),
    ]  # fmt: skip
    assert read_database(MULTIPLEXED, "x").messages[0x18FEF210, True].length == 8
    groups = decoded(_frames(rows, extended=True), [BusDescription("x.dbc", MULTIPLEXED)]).groups
    found = {name: (group.time.tolist(), values.tolist()) for group in groups for name, _, values in group.channels}
    assert found["Speed"] == ([0.0, 0.2], [2500.0, 5000.0])
    assert found["Oil"] == ([0.1], [80.0])
    assert found["Both"] == ([0.0, 0.1, 0.2], [12.0, 9.0, 10.0])


def test_the_description_that_fits_best_is_taken(drive):
    _, raw = drive
    right, other = dbc_of(raw), MULTIPLEXED
    described = (
        BusDescription("other.dbc", other),
        BusDescription("broken.dbc", "BO_ nonsense"),
        BusDescription("right.dbc", right),
    )
    assert "right.dbc" in read_log(write_bus(raw, "blf"), "a.blf", buses=described).notes["bus description"]


def test_replies_of_on_board_diagnostics_are_read_without_a_description():
    """By hand: 0x0C with 0x1AF8 is 1726 rpm; 0x44 with 0x8000 is λ 1; two values in one reply; one reply in two frames."""
    rows = [
        (0.0, 0x7E8, bytes([4, 0x41, 0x0C, 0x1A, 0xF8])), (0.1, 0x7DF, bytes([2, 1, 0x0C])),
        (0.2, 0x7E8, bytes([6, 0x41, 0x05, 0x7B, 0x11, 0xFF, 0])), (0.3, 0x7E8, bytes([0x10, 8, 0x41, 0x44, 0x80, 0, 0x0B, 0x64])),
        (0.4, 0x7E8, bytes([0x21, 0x0D, 0x32])), (0.5, 0x7E8, bytes([4, 0x41, 0x0C, 0x0F, 0xA0])),
        (0.6, 0x7E8, bytes([0x21, 0xFF])), (0.7, 0x7E8, bytes([3, 0x7F, 1, 0x12])),
    ]  # fmt: skip
    found = {
        name: (group.time.tolist(), values.tolist(), unit)
        for group in decoded(_frames(rows), []).groups
        for name, unit, values in group.channels
    }
    assert found["Engine speed"] == ([0.0, 0.5], [1726.0, 1000.0], "rpm")
    assert found["Coolant temperature"] == ([0.2], [83.0], "°C")
    assert found["Throttle position"] == ([0.2], [100.0], "%")
    assert found["Lambda target"] == ([0.3], [1.0], "")
    assert found["Manifold absolute pressure"] == ([0.3], [100.0], "kPa")
    assert found["Vehicle speed"] == ([0.3], [50.0], "km/h")


def test_replies_are_recognised_as_quantities():
    rows = []
    for number in range(40):
        rows.append((number * 0.2, 0x7E8, bytes([4, 0x41, 0x0C, 0x1A + number % 3, 0xF8])))
        rows.append((number * 0.2 + 0.05, 0x7E8, bytes([3, 0x41, 0x0B, 40 + number % 9])))
        rows.append((number * 0.2 + 0.1, 0x7E8, bytes([3, 0x41, 0x05, 130])))
    text = "\n".join(f"({time:.6f}) can0 {number:X}#{data.hex().upper()}" for time, number, data in rows)
    log = read_log(text.encode(), "replies.log")
    assert {"engine_speed", "manifold_pressure", "coolant_temperature"} <= set(log.quantities)
    assert log.quantities["coolant_temperature"].values[0] == 90


def test_what_cannot_be_read_is_said_in_one_sentence(drive):
    _, raw = drive
    file = write_bus(raw, "asc")
    assert bus_kind(file) is not None
    for described, why in (
        ((), "no description"),
        ((BusDescription("other.dbc", MULTIPLEXED),), "knows any of them"),
        ((BusDescription("broken.dbc", "BO_ nonsense"),), "broken.dbc"),
    ):
        with pytest.raises(BadInput, match=why) as refused:
            read_log(file, "drive.asc", buses=described)
        assert "\n" not in str(refused.value)
    for data in (
        b"LOGG" + bytes(200),
        write_bus(raw, "blf")[:200],
        b"(1.0) can0 123#",
        b"date x\nbase hex  timestamps absolute\n",
    ):
        with pytest.raises(BadInput):
            read_log(data, "damaged", buses=(BusDescription("car.dbc", dbc_of(raw)),))


@pytest.mark.parametrize(("version", "kind"), [(7, 1), (1, 1), (2, 1), (1, 99)])
def test_an_object_without_length_does_not_turn_the_reader_in_circles(drive, version, kind):
    good = write_bus(drive[1], "blf")
    inner = struct.pack("<4sHHII", b"LOBJ", 32, version, 0, kind) + bytes(200)
    container = struct.pack("<4sHHII", b"LOBJ", 16, 1, 32 + len(inner), 10) + bytes(16) + inner
    began = time.process_time()
    with pytest.raises(can.io.blf.BLFParseError):
        read_frames(BusKind.BLF, good[:144] + container)
    assert time.process_time() - began < 60.0


@pytest.mark.parametrize(
    "text", ["", "VERSION", 'BO_ 1 M: 8 X\n SG_ S : 0|99@1+ (1,0) [0|0] "" X\n', "BU_: X\n", "\x00" * 50, "(" * 9000]
)
def test_faulty_descriptions_are_refused(text):
    with pytest.raises(BadInput):
        decoded(_frames([(0.0, 1, bytes(8))]), [BusDescription("x.dbc", text)])
