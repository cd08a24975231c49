"""`uchiwa calibration` and the stand-in's images at the prompt."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from click.testing import CliRunner

from uchiwa.cli import uchiwa
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers import read_log
from uchiwa.core.tables.interchange import calibration_json, table_csv
from uchiwa.standin.a2l import description_of
from uchiwa.standin.cars import pike_base
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import layout_of


def run(*words: str) -> str:
    done = CliRunner().invoke(uchiwa, words, catch_exceptions=False)
    assert done.exit_code == 0, done.output
    return done.output


def refused(*words: str) -> str:
    with pytest.raises(BadInput) as error:
        CliRunner().invoke(uchiwa, words, catch_exceptions=False)
    return str(error.value)


@pytest.fixture
def car(tmp_path, monkeypatch) -> Path:
    monkeypatch.chdir(tmp_path)
    run("standin", "image", "--out", "car.hex", "--layout", "layout.json")
    run("standin", "base", "--out", "base.json")
    return tmp_path


def test_an_image_is_read_changed_written_and_driven(car):
    run("calibration", "convert", "car.hex", "read.json", "--layout", "layout.json")
    assert Path("read.json").read_text() == Path("base.json").read_text()
    base = pike_base()
    spark = base.table("spark_main")
    changed = base.with_table(spark.with_grid(spark.grid - 4))
    Path("next.json").write_text(calibration_json.dumps(changed))
    for ending in ("bin", "hex", "s19"):
        said = run(
            "calibration", "convert", "next.json", f"next.{ending}", "--layout", "layout.json", "--image", "car.hex"
        )
        assert "0xBFF8" in said
        assert "in order" in run("calibration", "check", f"next.{ending}", "--layout", "layout.json")
        assert "Spark advance: 195 cells changed" in run(
            "calibration", "diff", "car.hex", f"next.{ending}", "--layout", "layout.json"
        )
    sparks = []
    for image in ("car.hex", "next.s19"):
        run("standin", "drive", "--image", image, "--drive", "warm_idle", "--seed", "3", "--out", "log.csv")
        sparks.append(read_log(Path("log.csv").read_bytes(), "log.csv").quantities["spark_advance"].values[-1])
    assert sparks[0] - sparks[1] == pytest.approx(4, abs=0.3)


def test_a_table_goes_through_a_spreadsheet(car):
    run("calibration", "convert", "base.json", "ve.csv", "--table", "ve_main")
    lines = Path("ve.csv").read_text().splitlines()
    assert lines[0].startswith(r"ve_main [%] \ engine_speed [rpm] \ manifold_pressure [kPa],600,900")
    lines[1] = lines[1].replace(lines[1].split(",")[1], "99.5", 1)
    Path("ve.csv").write_text("\n".join(lines))
    run("calibration", "convert", "ve.csv", "next.json", "--table", "ve_main", "--into", "base.json")
    after = calibration_json.loads(Path("next.json").read_text()).table("ve_main")
    assert after.grid[0, 0] == 99.5
    assert (after.grid != pike_base().table("ve_main").grid).sum() == 1


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "too few lines"),
        ("c,1,2\n20,1,2\n", "too few lines"),
        ("c,1,2\n20,1,2\n30,1\n", "line 3: this line has 2 cells"),
        ("c,1,2\n20,1,x\n30,1,2\n", "line 2, cell 3: “x” is not a number"),
        ("c,2,1\n20,1,2\n30,1,2\n", "the breakpoints do not rise"),
        ("c,1,2\n20,1,2\n10,1,2\n", "the breakpoints do not rise"),
    ],
)
def test_a_faulty_table_text_names_line_and_cell(text, said):
    with pytest.raises(BadInput) as error:
        table_csv.loads(text, pike_base().table("ve_main"))
    assert said in str(error.value)


@pytest.mark.parametrize("table", ["ve_main", "warmup", "lambda_target"])
def test_a_table_as_text_comes_back_exactly(table):
    one = pike_base().table(table)
    again = table_csv.loads(table_csv.dumps(one), one)
    assert (again.grid == one.grid).all()
    assert (again.x.breakpoints == one.x.breakpoints).all()


def test_what_cannot_be_converted_is_said(car):
    assert "through its layout" in refused("calibration", "convert", "car.hex", "x.json")
    assert "give --layout and --image" in refused("calibration", "convert", "base.json", "x.hex")
    assert "the ending of x.elf" in refused("calibration", "convert", "base.json", "x.elf")
    assert "say which with --table" in refused("calibration", "convert", "base.json", "x.csv")
    assert "give --table and --into" in refused("calibration", "convert", "x.csv", "x.json")
    run("standin", "image", "--car", "bramble-wren", "--out", "wren.hex")
    assert "the identity" in refused(
        "standin", "drive", "--image", "wren.hex", "--drive", "warm_idle", "--out", "x.csv"
    )
    Path("cut.hex").write_bytes(Path("car.hex").read_bytes()[:3000])
    assert "cut.hex" in refused("calibration", "check", "cut.hex", "--layout", "layout.json")
    assert json.loads(run("calibration", "schema", "--layout"))["title"] == "Uchiwa layout"


def test_a_description_becomes_a_layout_and_the_image_is_read_by_it(car):
    Path("car.a2l").write_text(description_of(layout_of(car_named("corvid-pike"))))
    said = run(
        "calibration", "layout", "car.a2l", "--out", "of_a2l.json", "--suggest", "said.json", "--image", "car.hex"
    )
    assert "ve_main: Volumetric efficiency, volumetric_efficiency, %" in said
    assert "no checksum is known" in said
    given = json.loads(Path("said.json").read_text())
    assert given["take"]["VE_MAIN"]["role"] == "volumetric_efficiency"
    given["checksums"] = json.loads(Path("layout.json").read_text())["checksums"]
    given["take"]["NOT_THERE"] = {"role": "other"}
    Path("said.json").write_text(json.dumps(given))
    said = run("calibration", "layout", "car.a2l", "--out", "of_a2l.json", "--assignment", "said.json")
    assert "left out: NOT_THERE, the description has none of this name" in said
    assert "no checksum" not in said
    run("calibration", "convert", "car.hex", "read.json", "--layout", "of_a2l.json")
    ve = calibration_json.loads(Path("read.json").read_text()).table("ve_main")
    assert (ve.grid == pike_base().table("ve_main").grid).all()
    Path("no.a2l").write_bytes(bytes(64))
    assert "no.a2l: this is no text" in refused("calibration", "layout", "no.a2l", "--out", "x.json")


def test_a_calibration_goes_through_cdf(car):
    run("calibration", "convert", "base.json", "base.cdfx")
    run("calibration", "convert", "base.cdfx", "again.json")
    assert Path("again.json").read_text() == Path("base.json").read_text()
    text = Path("base.cdfx").read_text()
    Path("own.cdfx").write_text(text.replace("ve_main</SHORT-NAME>", "unknown</SHORT-NAME>").replace("UCHIWA", "OTHER"))
    assert "take it into a calibration" in refused("calibration", "convert", "own.cdfx", "x.json")
    said = run("calibration", "convert", "own.cdfx", "again.json", "--into", "base.json")
    assert "left out: the calibration has no unknown" in said
