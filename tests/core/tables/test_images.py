"""Binary images: numbers, layouts, records, checksums; against binutils and srecord too."""

from __future__ import annotations

import json
import subprocess
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.checksum import Checksum
from uchiwa.core.tables.image.content import read_calibration, verify, write_calibration
from uchiwa.core.tables.image.files import FORMATS, read_image, write_image
from uchiwa.core.tables.image.layout_json import loads
from uchiwa.core.tables.image.memory import Memory, Segment
from uchiwa.core.tables.image.number import TYPES, Number
from uchiwa.core.tables.interchange.calibration_json import content_hash
from uchiwa.standin.fleet import FLEET, car_named
from uchiwa.standin.layouts import flash, image_of, layout_data, layout_of

PIKE = car_named("corvid-pike")


def small_layout(**changes):
    data = {
        "format": "uchiwa.layout/1",
        "id": "small",
        "title": "Small",
        "calibration": {"id": "small", "title": "Small"},
        "base": "0x100",
        "size": 64,
        "byte_order": "little",
        "identity": [{"address": "0x100", "text": "AB"}],
        "constants": [{"id": "gain", "role": "gain", "unit": "1", "address": "0x102", "type": "u8", "scale": 0.5}],
        "tables": [
            {
                "id": "t", "title": "T", "role": "other", "unit": "%", "decimals": 1, "by_columns": True,
                "address": "0x110", "type": "i16", "scale": 0.1, "offset": 50,
                "x": {"quantity": "engine_speed", "unit": "rpm", "address": "0x104", "type": "u8", "scale": 50, "count": 3},
                "y": {"quantity": "manifold_pressure", "unit": "kPa", "breakpoints": [20, 60]},
            }
        ],
        "checksums": [{"kind": "sum16", "ranges": [["0x100", "0x130"]], "address": "0x13E"}],
    }  # fmt: skip
    return json.dumps(data | changes)


def small_image() -> bytes:
    body = bytearray(64)
    body[0:2] = b"AB"
    body[2] = 7
    body[4:7] = bytes([20, 40, 60])
    body[0x10:0x1C] = np.array([-500, 0, 100, 101, 102, 250], dtype="<i2").tobytes()
    total = int(np.frombuffer(bytes(body[:0x30]), dtype="<u2").astype(int).sum()) & 0xFFFF
    body[0x3E:0x40] = total.to_bytes(2, "little")
    return bytes(body)


def test_hand_worked_bytes_become_values_and_back():
    layout = loads(small_layout())
    memory, kind = read_image(small_image(), "small.bin", layout.base)
    assert kind == "raw"
    read = read_calibration(memory, layout)
    assert read.constant("gain") == 3.5
    table = read.table("t")
    assert table.x.breakpoints.tolist() == [1000, 2000, 3000]
    # by columns: the two values of 1000 rpm stand first
    assert table.grid.tolist() == [[0, 60, 60.2], [50, 60.1, 75]]
    after = write_calibration(
        memory, layout, read.with_table(table.with_grid(table.grid + np.array([[0, 0, 0], [0, 1, 0]])))
    )
    # 60.1 → 61.1 is raw 101 → 111: one byte at 0x110 + 2·3; the sum grows by 10
    assert after.changed == ((0x116, 0x117), (0x13E, 0x13F))
    assert after.memory.read(0x116, 1) == bytes([111])


@pytest.mark.parametrize("car", FLEET.values(), ids=list(FLEET))
def test_reading_and_writing_without_change_is_byte_identical(car):
    memory, layout = image_of(car), layout_of(car)
    read = read_calibration(memory, layout)
    assert content_hash(read) == content_hash(car.base())
    written = write_calibration(memory, layout, read)
    assert written.memory == memory
    assert written.changed == ()
    assert written.roundings == ()


@given(st.integers(0, 14), st.integers(0, 12), st.integers(0, 1600))
def test_one_changed_cell_changes_its_bytes_and_the_checksums(i, j, raw):
    layout, memory, base = layout_of(PIKE), image_of(PIKE), PIKE.base()
    table = base.table("ve_main")
    grid = table.grid.copy()
    grid[j, i] = raw / 10
    written = write_calibration(memory, layout, base.with_table(table.with_grid(grid)))
    place = next(one for one in layout.tables if one.id == "ve_main").place
    own = place.address + 2 * (j * 15 + i)
    sums = [range(checksum.address, checksum.address + checksum.size) for checksum in layout.checksums]
    for start, stop in written.changed:
        for at in range(start, stop):
            assert at in (own, own + 1) or any(at in sum_ for sum_ in sums)
    assert written.memory.read(own, 2) == raw.to_bytes(2, "big")
    verify(written.memory, layout)
    assert flash(PIKE, written.memory).table("ve_main").grid[j, i] == pytest.approx(raw / 10)


@given(st.sampled_from(TYPES), st.sampled_from(["big", "little"]), st.binary(min_size=4, max_size=64))
def test_any_bytes_of_any_type_are_given_back(kind, order, data):
    number = Number(kind, order, 0.25, -3.0)
    data = data[: len(data) // number.size * number.size]
    values = number.decode(data)
    if not np.isfinite(values).all():
        return
    assert number.fits(values).all()
    again = number.encode(values)
    assert (number.decode(again) == values).all()
    if number.whole:
        assert again == data


def programs(memory: Memory, folder):
    for kind, (ending, _) in FORMATS.items():
        if kind == "raw" and len(memory.segments) > 1:
            with pytest.raises(BadInput, match="MiB apart"):
                write_image(memory, kind)
            continue
        (folder / f"ours.{ending}").write_bytes(write_image(memory, kind))


GAPPED = Memory.of(
    [Segment(0x8000, bytes(range(256)) * 3), Segment(0x12340, b"second"), Segment(0x2000000, b"\x00\xff" * 20)]
)


@pytest.mark.parametrize("memory", [image_of(PIKE), GAPPED], ids=["image", "with gaps"])
def test_objcopy_and_srec_cat_read_ours_and_we_theirs(memory, tmp_path):
    programs(memory, tmp_path)
    for ending, bfd, flavour in (("hex", "ihex", "-Intel"), ("s19", "srec", "-Motorola")):
        ours = tmp_path / f"ours.{ending}"
        for other, (theirs, theirs_srec) in {"hex": ("ihex", "-Intel"), "s19": ("srec", "-Motorola")}.items():
            by_objcopy, by_srec = tmp_path / f"objcopy-{ending}.{other}", tmp_path / f"srec-{ending}.{other}"
            subprocess.run(["objcopy", "-I", bfd, "-O", theirs, str(ours), str(by_objcopy)], check=True)
            subprocess.run(["srec_cat", str(ours), flavour, "-o", str(by_srec), theirs_srec], check=True)
            for made in (by_objcopy, by_srec):
                assert read_image(made.read_bytes(), made.name)[0] == memory, made.name
        compared = subprocess.run(
            ["srec_cmp", str(ours), flavour, str(tmp_path / f"objcopy-{ending}.s19"), "-Motorola"], check=False
        )
        assert compared.returncode == 0
    if len(memory.segments) == 1:
        binary = tmp_path / "objcopy.bin"
        subprocess.run(["objcopy", "-I", "ihex", "-O", "binary", str(tmp_path / "ours.hex"), str(binary)], check=True)
        assert binary.read_bytes() == (tmp_path / "ours.bin").read_bytes()


def broken_hex(change) -> bytes:
    lines = write_image(image_of(PIKE), "hex").decode().splitlines()
    change(lines)
    return "\n".join(lines).encode()


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "the file is empty"),
        (
            broken_hex(lambda lines: lines.__setitem__(5, lines[5][:-2] + "00")),
            "image.hex, line 6: this record is broken",
        ),
        (broken_hex(lambda lines: lines.__setitem__(2, lines[2][:20])), "image.hex, line 3: this"),
        (broken_hex(lambda lines: lines.__setitem__(3, "hello")), "image.hex, line 4"),
        (broken_hex(lambda lines: lines.pop()), "the end record is missing"),
        (broken_hex(lambda lines: lines.append(lines[1])), "records follow the end record"),
        (broken_hex(lambda lines: lines.insert(3, lines[2])), "is given twice"),
        (b":020000040001F9\n\xff\xfe\n", "image.hex, line 2: this line holds bytes that no record has"),
        (write_image(image_of(PIKE), "srec")[:301], "image.hex, line 5: this record is broken"),
    ],
)
def test_a_broken_record_file_names_the_line(data, said):
    with pytest.raises(BadInput) as error:
        read_image(data, "image.hex")
    assert said in str(error.value)


@given(st.binary(max_size=400))
def test_any_file_is_an_image_or_one_sentence(data):
    for head in (b"", b":", b"S1"):
        try:
            read_image(head + data, "any")
        except BadInput as error:
            assert "\n" not in str(error)


def test_checksums_are_the_known_ones():
    check = b"123456789"
    known = {"crc16-ccitt": 0x29B1, "crc16-arc": 0xBB3D, "crc32": 0xCBF43926, "bytes16": 0x1DD, "sum8": 0xDD}
    for kind, value in known.items():
        assert Checksum(kind, ((0, 9),), 16).of(check) == value
    assert Checksum("sum16", ((0, 4),), 8, "big").of(bytes([1, 2, 3, 4])) == 0x0102 + 0x0304
    assert (
        Checksum("sum16", ((0, 4),), 8, "little", complement=True).of(bytes([1, 2, 3, 4])) == 0x10000 - 0x0201 - 0x0403
    )
    assert Checksum("crc32", ((0, 9),), 16).written(check) == zlib.crc32(check).to_bytes(4, "big")


def with_table(**changes) -> str:
    table = json.loads(small_layout())["tables"][0]
    return small_layout(tables=[table | changes])


@pytest.mark.parametrize(
    ("layout", "said"),
    [
        ("{", "layout, line 1: this is not JSON"),
        ("{}", "format: the format is not “uchiwa.layout/1”"),
        (small_layout(colour=1), "colour: this key is not known"),
        (with_table(address="0x13A"), "table t: 0x13A … 0x145 lies outside the image, 0x100 … 0x13F"),
        (with_table(address="0x103"), "overlaps"),
        (with_table(type="u12"), "tables[0].type"),
        (with_table(scale=0), "tables[0].scale: a scale of 0 loses every value"),
        (with_table(address="here"), "“here” is not an address"),
        (with_table(x={"quantity": "engine_speed", "unit": "rpm"}), "tables[0].x: an axis has either breakpoints or an address"),
        (with_table(x={"quantity": "engine_speed", "unit": "rpm", "address": 260}), "an axis in the image needs type and count"),
        (with_table(x={"quantity": "speed", "unit": "rpm", "breakpoints": [1, 2]}), "“speed” is not a quantity"),
        (small_layout(checksums=[{"kind": "md5", "ranges": [[256, 260]], "address": 318}]), "“md5” is not a checksum"),
        (small_layout(checksums=[{"kind": "sum8", "ranges": [["0x100", "0x140"]], "address": "0x13E"}]), "covers itself"),
        (small_layout(identity=[{"address": 256}]), "identity[0]: give either text or hex"),
    ],
)  # fmt: skip
def test_a_faulty_layout_names_the_path(layout, said):
    with pytest.raises(BadInput) as error:
        loads(layout)
    assert said in str(error.value)


def test_an_image_of_something_else_is_refused():
    layout, memory = layout_of(PIKE), image_of(PIKE)
    whole = memory.segments[0].data
    damaged = bytearray(whole)
    damaged[0x1800] ^= 1
    cases = {
        "has 16000 bytes": Memory.of([Segment(0x8000, whole[:16000])]),
        "has 16384 bytes from 0x0": Memory.of([Segment(0, whole)]),
        "the identity at 0x8020": image_of(car_named("bramble-wren")),
        "checksum 1 (crc16-ccitt at 0xBFF8)": Memory.of([Segment(0x8000, bytes(damaged))]),
    }
    for said, image in cases.items():
        with pytest.raises(BadInput) as error:
            flash(PIKE, image)
        assert said in str(error.value)
    with pytest.raises(BadInput, match="no bytes at 0x0"):
        memory.read(0, 2)
    assert layout.size == memory.size


def test_what_the_image_cannot_hold_is_refused_with_the_nearest_it_can():
    layout, memory, base = layout_of(PIKE), image_of(PIKE), PIKE.base()
    spark = base.table("spark_main")
    grid = spark.grid.copy()
    grid[2, 3] = 4000
    with pytest.raises(
        BadInput, match=r"Spark advance, 1600 rpm × 40 kPa: 4000 cannot be kept as i16; the nearest that can is 3276\.7"
    ):
        write_calibration(memory, layout, base.with_table(spark.with_grid(grid)))
    grid[2, 3] = 20.04
    written = write_calibration(memory, layout, base.with_table(spark.with_grid(grid)))
    assert written.roundings == ()  # 20.04 shows as 20.0 in both
    grid[2, 3] = 20.06
    assert write_calibration(memory, layout, base.with_table(spark.with_grid(grid))).roundings == ()
    coarse = json.loads(json.dumps(layout_data(PIKE)).replace('"scale": 0.1', '"scale": 0.5'))
    rough = loads(json.dumps(coarse))
    rounded = write_calibration(memory, rough, base.with_table(spark.with_grid(np.full(spark.shape, 20.3))))
    one = next(rounding for rounding in rounded.roundings if rounding.table == "spark_main")
    assert (one.wanted, one.kept) == (20.3, 20.5)


def test_axes_that_tables_share_stay_the_same_in_both():
    from uchiwa.core.tables.editing.breakpoints import rebroken

    layout, memory, base = layout_of(PIKE), image_of(PIKE), PIKE.base()
    table = base.table("ve_main")
    x = table.x.breakpoints.copy()
    x[3] += 100
    with pytest.raises(BadInput, match="another table shares this axis"):
        write_calibration(memory, layout, base.with_table(rebroken(table, x, table.y.breakpoints)))
    for one in base.tables:
        if one.y is not None:
            base = base.with_table(rebroken(one, x, one.y.breakpoints))
    again = read_calibration(write_calibration(memory, layout, base).memory, layout)
    assert again.table("spark_main").x.breakpoints[3] == 1700
    with pytest.raises(BadInput, match="room for 15"):
        write_calibration(memory, layout, base.with_table(rebroken(table, x[:-1], table.y.breakpoints)))


def test_the_shipped_schema_is_the_one_of_the_code():
    shipped = Path(layout_json.__file__).with_name("layout.schema.json")
    assert json.loads(shipped.read_text()) == layout_json.schema()
