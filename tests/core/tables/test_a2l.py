"""Descriptions in A2L: the layouts that follow from them, and what is said of those that are faulty."""

from __future__ import annotations

import dataclasses
import json

import numpy as np
import pytest

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.a2l import assignment
from uchiwa.core.tables.a2l.assignment import Assignment, Input, TakenCharacteristic
from uchiwa.core.tables.a2l.description import read_description
from uchiwa.core.tables.a2l.layout import Extent, layout_from
from uchiwa.core.tables.a2l.suggestion import suggested
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.content import read_calibration, write_calibration
from uchiwa.core.tables.image.memory import Memory, Segment
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.a2l import description_of
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import flash, image_of, layout_data, layout_of
from uchiwa.standin.simulate import simulate

CARS = ("corvid-pike", "larkspur-tern", "bramble-wren")
INPUTS = {
    "EngineSpeed": "engine_speed", "IntakePressure": "manifold_pressure", "PressureRatio": "pressure_ratio", "CoolantTemp": "coolant_temperature",
    "AirMeterFrequency": "airflow_frequency", "AirMeterVoltage": "airflow_voltage", "InGear": "in_gear",
}  # fmt: skip


def assignment_of(car) -> Assignment:
    """What a person would say to the car's description: what is taken as what, and the checksums."""
    layout, data = layout_of(car), layout_data(car)
    take = {
        constant.id.upper(): {"role": constant.role, "id": constant.id, "unit": constant.unit}
        for constant in layout.constants
    }
    take |= {
        table.id.upper(): {"role": table.role, "id": table.id, "decimals": table.decimals} for table in layout.tables
    }
    return assignment.loads(
        json.dumps({
            "format": "uchiwa.assignment/1", "id": layout.id, "calibration": layout.calibration_id,
            "calibration_title": layout.calibration_title, "take": take, "checksums": data["checksums"],
            "inputs": {name: {"quantity": quantity} for name, quantity in INPUTS.items()},
        })
    )  # fmt: skip


def described(car):
    return read_description(description_of(layout_of(car)).encode(), "car.a2l")


@pytest.mark.parametrize("name", CARS)
def test_a_stand_ins_description_gives_its_own_layout(name):
    car = car_named(name)
    found = layout_from(described(car), assignment_of(car))
    assert found.left_out == ()
    mine, theirs = layout_json.as_dict(found.layout), layout_json.as_dict(layout_of(car))
    # A characteristic always has limits; a layout may have none.
    for one, other in zip(mine["tables"], theirs["tables"], strict=True):
        for limit in ("minimum", "maximum"):
            if other[limit] is None:
                assert abs(one[limit]) == 99999
                one[limit] = None
    assert mine == theirs


@pytest.mark.parametrize("name", CARS)
def test_a_car_is_edited_flashed_and_driven_by_its_description(name):
    car = car_named(name)
    layout = layout_from(described(car), assignment_of(car)).layout
    base = read_calibration(image_of(car), layout)
    table = base.tables[0]
    edited = base.with_table(table.with_grid(table.rounded(table.grid * 1.03)))
    written = write_calibration(image_of(car), layout, edited)
    assert written.changed
    driven = flash(car, written.memory)  # refuses wrong checksums
    assert np.array_equal(driven.table(table.id).grid, edited.table(table.id).grid)
    assert simulate(car, driven, "warm_idle", 1).rasters


def test_a_layout_is_written_and_read_back_equal():
    for name in CARS:
        layout = layout_of(car_named(name))
        again = layout_json.loads(layout_json.dumps(layout))
        assert layout_json.as_dict(again) == layout_json.as_dict(layout)


HEAD = """/begin PROJECT P "" /begin MODULE ECU "A controller"
/begin MOD_COMMON "" BYTE_ORDER MSB_LAST ALIGNMENT_LONG 4 /end MOD_COMMON
/begin MEASUREMENT EngineSpeed "Engine speed" UWORD rpm 1 0 0 8000 /end MEASUREMENT
/begin MEASUREMENT pim "MAP" UWORD kPa 1 0 0 300 /end MEASUREMENT
/begin COMPU_METHOD rpm "" RAT_FUNC "%6.0" "1/min" COEFFS 0 4 0 0 0 1 /end COMPU_METHOD
/begin COMPU_METHOD kPa "" LINEAR "%6.1" "kPa" COEFFS_LINEAR 0.5 10 /end COMPU_METHOD
/begin COMPU_METHOD lam "" RAT_FUNC "%6.3" "" COEFFS 0 0 128 0 1 0 /end COMPU_METHOD
/begin COMPU_METHOD pct "" IDENTICAL "%6.1" "%" /end COMPU_METHOD
/begin COMPU_METHOD words "" TAB_VERB "%1.0" "" COMPU_TAB_REF t /end COMPU_METHOD
/begin COMPU_METHOD square "" RAT_FUNC "%1.0" "" COEFFS 1 0 0 0 0 1 /end COMPU_METHOD
/begin RECORD_LAYOUT Std NO_AXIS_PTS_X 1 UBYTE NO_AXIS_PTS_Y 2 UBYTE AXIS_PTS_X 3 UWORD INDEX_INCR DIRECT
 AXIS_PTS_Y 4 UBYTE INDEX_INCR DIRECT FNC_VALUES 5 ULONG COLUMN_DIR DIRECT /end RECORD_LAYOUT
/begin RECORD_LAYOUT Byte FNC_VALUES 1 UBYTE ROW_DIR DIRECT /end RECORD_LAYOUT
/begin RECORD_LAYOUT Far FNC_VALUES 1 UBYTE ROW_DIR PLONG /end RECORD_LAYOUT
/begin RECORD_LAYOUT Falling AXIS_PTS_X 1 UWORD INDEX_DECR DIRECT FNC_VALUES 2 UBYTE ROW_DIR DIRECT /end RECORD_LAYOUT
"""
SPEED = "/begin AXIS_DESCR STD_AXIS EngineSpeed rpm 3 0 8000 /end AXIS_DESCR"
PRESSURE = "/begin AXIS_DESCR STD_AXIS pim kPa 2 0 300 /end AXIS_DESCR"
FIXED = "/begin AXIS_DESCR FIX_AXIS EngineSpeed rpm 3 0 8000 FIX_AXIS_PAR_DIST 4000 2000 3 /end AXIS_DESCR"
SHIFTED = "/begin AXIS_DESCR FIX_AXIS EngineSpeed rpm 3 0 8000 FIX_AXIS_PAR 4000 11 3 /end AXIS_DESCR"


def file_of(*parts: str) -> bytes:
    return (HEAD + "\n".join(parts) + "\n/end MODULE /end PROJECT").encode()


def characteristic(
    name: str, kind: str, deposit: str, conversion: str, *axes: str, address: int = 0x100, more=""
) -> str:
    return (
        f'/begin CHARACTERISTIC {name} "{name} words" {kind} {address} {deposit} 0 {conversion} 0 255 {more}\n'
        + "\n".join(axes)
        + "\n/end CHARACTERISTIC"
    )


def taken(*names: str, **said: object) -> Assignment:
    return Assignment(take={name: TakenCharacteristic() for name in names}, **said)


def test_a_record_is_laid_by_position_alignment_and_counts():
    """By hand: counts at 0x101, 0x102; 3 words from 0x104, 2 bytes at 0x10A, 6 longs from 0x10C, column by column."""
    found = layout_from(
        read_description(file_of(characteristic("K", "MAP", "Std", "pct", SPEED, PRESSURE, address=0x101)), "a"),
        taken("K"), Extent(0x100, 0x40),
    )  # fmt: skip
    table = found.layout.tables[0]
    assert (table.x.place.address, table.x.place.count, table.x.place.number.type) == (0x104, 3, "u16")
    assert (table.y.place.address, table.y.place.count, table.y.place.number.scale) == (0x10A, 2, 0.5)
    assert (table.place.address, table.place.number.type, table.place.number.order) == (0x10C, "u32", "little")
    assert table.by_columns
    assert table.y.unit == "kPa"
    data = bytearray(0x40)
    data[1:3] = b"\x03\x02"
    data[4:10] = np.array([4000, 8000, 16000], dtype="<u2").tobytes()
    data[0xA:0xC] = bytes([20, 180])
    data[0xC:0x24] = np.array([1, 2, 3, 4, 5, 6], dtype="<u4").tobytes()
    content = read_calibration(Memory.of([Segment(0x100, bytes(data))]), found.layout)
    assert content.tables[0].x.breakpoints.tolist() == [1000, 2000, 4000]
    assert content.tables[0].y.breakpoints.tolist() == [20, 100]
    assert content.tables[0].grid.tolist() == [[1, 3, 5], [2, 4, 6]]
    data[1] = 2  # fewer breakpoints than the description's most: everything behind would stand elsewhere
    with pytest.raises(BadInput, match="0x101"):
        read_calibration(Memory.of([Segment(0x100, bytes(data))]), found.layout)


@pytest.mark.parametrize("axis", [FIXED, SHIFTED])
def test_fixed_axes(axis):
    """Raw 4000, 6000, 8000 (and 4000, 6048, 8096) at a quarter of a turn a minute each."""
    found = layout_from(
        read_description(file_of(characteristic("K", "CURVE", "Byte", "pct", axis)), "a"), taken("K"), Extent(0, 0x200)
    )
    points = found.layout.tables[0].x.fixed.breakpoints.tolist()
    assert points == ([1000, 1500, 2000] if axis is FIXED else [1000, 1512, 2024])


def test_a_rational_conversion_is_read_and_written():
    """λ = 128 / raw: raw 128 is λ 1, raw 160 is λ 0.8."""
    layout = layout_from(
        read_description(file_of(characteristic("LAM", "CURVE", "Byte", "lam", FIXED)), "a"),
        taken("LAM"), Extent(0x100, 16),
    ).layout  # fmt: skip
    memory = Memory.of([Segment(0x100, bytes([128, 160, 100]) + bytes(13))])
    content = read_calibration(memory, layout)
    assert content.tables[0].values.tolist() == [1.0, 0.8, 1.28]
    table = content.tables[0]
    after = content.with_table(table.with_grid(np.array([[0.9, 0.8, 1.28]])))
    written = write_calibration(memory, layout, after)
    assert written.memory.read(0x100, 3) == bytes([142, 160, 100])
    assert written.roundings[0].kept == pytest.approx(128 / 142)
    with pytest.raises(BadInput, match=r"nearest that can is 128"):
        write_calibration(memory, layout, content.with_table(table.with_grid(np.array([[500.0, 0.8, 1.28]]))))
    again = layout_json.loads(layout_json.dumps(layout))
    assert read_calibration(memory, again).tables[0].values.tolist() == [1.0, 0.8, 1.28]


@pytest.mark.parametrize(
    ("part", "why"),
    [
        (characteristic("K", "MAP", "Nowhere", "pct", SPEED, PRESSURE), "record layout Nowhere is not in the file"),
        (characteristic("K", "VALUE", "Byte", "nothing"), "conversion nothing is not in the file"),
        (characteristic("K", "VALUE", "Byte", "words"), "stand for words"),
        (characteristic("K", "VALUE", "Byte", "square"), "square"),
        (characteristic("K", "VALUE", "Far", "pct"), "pointers"),
        (characteristic("K", "CURVE", "Falling", "pct", SPEED), "fall"),
        (characteristic("K", "VAL_BLK", "Byte", "pct", more="NUMBER 8"), "VAL_BLK"),
        (characteristic("K", "VALUE", "Byte", "pct", more="BIT_MASK 0x3"), "some bits"),
        (characteristic("K", "MAP", "Std", "pct", SPEED), "has 1 axes"),
        (characteristic("K", "CURVE", "Byte", "pct", "/begin AXIS_DESCR CURVE_AXIS EngineSpeed rpm 3 0 1 CURVE_AXIS_REF K /end AXIS_DESCR"), "CURVE_AXIS"),
        (characteristic("K", "CURVE", "Byte", "pct", "/begin AXIS_DESCR COM_AXIS EngineSpeed rpm 3 0 1 AXIS_PTS_REF Gone /end AXIS_DESCR"), "Gone"),
        (characteristic("K", "CURVE", "Byte", "pct", "/begin AXIS_DESCR FIX_AXIS vfzg rpm 3 0 1 FIX_AXIS_PAR 0 1 3 /end AXIS_DESCR"), "vfzg"),
    ],
)  # fmt: skip
def test_what_a_layout_cannot_hold_is_listed_and_the_rest_works(part, why):
    found = layout_from(
        read_description(file_of(part, characteristic("GOOD", "VALUE", "Byte", "pct", address=0x150)), "a"),
        taken("K", "GOOD"), Extent(0x100, 0x100),
    )  # fmt: skip
    assert [one.name for one in found.left_out] == ["K"]
    assert why in found.left_out[0].why
    assert [constant.id for constant in found.layout.constants] == ["good"]


def test_what_is_not_said_is_asked_for():
    good = file_of(characteristic("GOOD", "VALUE", "Byte", "pct"))
    description = read_description(good, "a")
    with pytest.raises(BadInput, match="where the image begins"):
        layout_from(description, taken("GOOD"))
    assert layout_from(description, taken("GOOD", base=0, size=0x200)).layout.size == 0x200
    with pytest.raises(BadInput, match="nothing of the description can be held: GONE"):
        layout_from(description, taken("GONE"), Extent(0, 99))
    with pytest.raises(BadInput, match="outside the image"):
        layout_from(description, taken("GOOD"), Extent(0, 8))


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "no ASAP2 description"),
        (b"\x00\x01\x02", "no text"),
        (b"/begin PROJECT P \"\" /begin MODULE M \"\"", "MODULE does not end"),
        (file_of('/begin CHARACTERISTIC K "never ends VALUE 1 /end CHARACTERISTIC'), "in quotes does not end"),
        (file_of("/* never ends"), "comment does not end"),
        (file_of("/include other.a2l"), "/include"),
        (file_of("/end GROUP"), "/end GROUP within MODULE"),
        (b"/begin A " * 60, "deep"),
        ("/begin PROJECT P \"ä\"".encode("utf-16-le") + b"\x00", "no text"),
    ],
)  # fmt: skip
def test_faulty_files_are_refused_in_one_sentence(data, why):
    with pytest.raises(BadInput, match=why) as refused:
        read_description(data, "car.a2l")
    assert "\n" not in str(refused.value)
    assert "car.a2l" in str(refused.value)


def test_groups_that_hold_each_other_are_walked_once():
    groups = "".join(
        f'/begin GROUP G{number} "" /begin REF_CHARACTERISTIC K{number} /end REF_CHARACTERISTIC '
        f"/begin SUB_GROUP G{(number + 1) % 3} /end SUB_GROUP /end GROUP\n"
        for number in range(3)
    )
    found = read_description(file_of(characteristic("K0", "VALUE", "Byte", "pct"), groups), "a").groups
    assert set(found["G1"]) == {"K0", "K1", "K2"}


def test_suggestions_go_by_words_and_axes():
    car = car_named("corvid-pike")
    found = suggested(described(car))
    roles = {one.role for one in found.take.values()}
    assert {"volumetric_efficiency", "spark_advance", "lambda_target", "displacement"} <= roles
    assert found.inputs["EngineSpeed"] == Input(quantity="engine_speed")
    assert layout_from(described(car), found).left_out == ()


def test_many_characteristics_and_doubled_names():
    parts = [characteristic(f"K{number}", "VALUE", "Byte", "pct", address=number) for number in range(3000)]
    description = read_description(file_of(*parts, parts[7]), "a")
    assert len(description.characteristics) == 3000
    assert "1 characteristics have a name that stood before" in description.notes[0]


def test_encodings():
    text = file_of(characteristic("K", "VALUE", "Byte", "pct")).decode().replace("K words", "Zündwinkel")
    for encoded in (text.encode("utf-8"), text.encode("cp1252"), text.encode("utf-8-sig"), text.encode("utf-16")):
        assert read_description(encoded, "a").characteristics[0].words == "Zündwinkel"


def test_a_calibration_of_a_description_is_json_like_any_other():
    car = car_named("corvid-pike")
    layout = layout_from(described(car), assignment_of(car)).layout
    content = read_calibration(image_of(car), layout)
    assert calibration_json.as_dict(
        calibration_json.loads(calibration_json.dumps(content))
    ) == calibration_json.as_dict(content)
    assert dataclasses.asdict(content.constants[0]) == dataclasses.asdict(car.base().constants[0])
