"""The command as it is run: its output, its one-line errors and its exit codes."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from tests.command.called import called as run
from tests.store.conftest import log_text
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.cars import pike_base


def in_a_process(*arguments: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    """Run `uchiwa` as people do."""
    return subprocess.run([sys.executable, "-m", "uchiwa", *arguments], capture_output=True, text=True, cwd=cwd)


@pytest.fixture(scope="module")
def folder(tmp_path_factory) -> Path:
    """A folder with a log, a calibration, and everything that can be wrong with them."""
    place = tmp_path_factory.mktemp("command")
    (place / "road.csv").write_text(log_text())
    (place / "base.json").write_text(calibration_json.dumps(pike_base()))
    raw = calibration_json.as_dict(pike_base())

    def spoiled(name: str, change) -> None:
        copy = json.loads(json.dumps(raw))
        change(copy["tables"][0])
        (place / name).write_text(json.dumps(copy))

    spoiled("ragged.json", lambda table: table["values"][3].pop())
    spoiled("falling.json", lambda table: table["x"]["breakpoints"].reverse())
    spoiled("unknown.json", lambda table: table.update(colour="red"))
    spoiled("nan.json", lambda table: table["values"][2].__setitem__(1, float("nan")))
    (place / "empty.csv").write_bytes(b"")
    (place / "one.csv").write_text("time,rpm\n1,2\n")
    (place / "words.csv").write_text("time,rpm\na,b\nc,d\n")
    (place / "no-speed.csv").write_text("time [s],MAP [kPa]\n0,1\n1,2\n")
    (place / "binary.csv").write_bytes(bytes(range(256)) * 50)
    with (place / "huge.csv").open("wb") as file:
        file.truncate(200_000_000)
    (place / "policy.json").write_text('{"strenght": 50}')
    return place


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        ("log empty.csv", "the file is empty"),
        ("log one.csv", "only one row"),
        ("log words.csv", "not one number"),
        ("log no-speed.csv", "no engine speed"),
        ("log binary.csv", "not a text file"),
        ("log huge.csv", "the file has 200 MB"),
        ("log missing.csv", "cannot be read"),
        ("calibration check ragged.json", "tables[0].values[3]: the table is ragged"),
        ("calibration check falling.json", "tables[0].x.breakpoints[1]: the breakpoints do not rise"),
        ("calibration check unknown.json", "tables[0].colour: this key is not known"),
        ("calibration check nan.json", "tables[0].values[2][1]: NaN and infinity"),
        ("propose fuel road.csv --calibration ragged.json --table ve_main --out x.json", "ragged"),
        ("propose fuel empty.csv --calibration base.json --table ve_main --out x.json", "the file is empty"),
        ("propose fuel road.csv --calibration base.json --table none --out x.json", "its tables are: ve_main"),
        ("propose fuel road.csv --calibration base.json --table spark_main --out x.json", "not an airflow table"),
        ("propose fuel road.csv --calibration base.json --table ve_main --policy policy.json --out x.json", "strenght"),
        ("bin road.csv --calibration base.json --table ve_main --value open('x')", "not allowed"),
        ("bin road.csv --calibration base.json --table ve_main --value 1 --where engine_speed", "not a condition"),
        ("standin drive --drive moon --out x.csv", "the drives are"),
        ("standin drive --drive warm_idle --car none --out x.csv", "the cars are"),
        ("propose oil road.csv", "'oil' is not one of 'fuel', 'knock'"),
    ],
)
def test_bad_input_is_one_line_and_exit_2(folder, arguments, said):
    done = run(*arguments.split(), cwd=folder)
    assert done.returncode == 2, done.stderr
    assert said in done.stderr
    assert done.stderr.count("\n") == 1
    assert "Traceback" not in done.stderr
    assert not (folder / "x.json").exists()


def test_log_tells_drives_and_findings_and_exports(folder):
    run(
        "standin",
        "drive",
        "--car",
        "bramble-wren",
        "--drive",
        "full_load_pull",
        "--seed",
        "3",
        "--out",
        "pull.txt",
        cwd=folder,
    )
    (folder / "car.json").write_text('{"fuel": "flex", "aspiration": "supercharger"}')
    done = run("log", "pull.txt", "--car", "car.json", "--json", "--export", "pull.mf4", cwd=folder)
    assert done.returncode == 0, done.stderr
    told = json.loads(done.stdout)
    assert "pull" in {one["kind"] for one in told["drives"]}
    assert told["findings"] == []
    again = json.loads(run("log", "pull.mf4", "--json", cwd=folder).stdout)
    assert {one["quantity"] for one in again["channels"]} == {one["quantity"] for one in told["channels"]}
    spoiled = (folder / "road.csv").read_text().replace(",90,", ",31,")
    (folder / "cold.csv").write_text(spoiled)
    assert "critical: Coolant 31 to 31 °C" in run("log", "cold.csv", cwd=folder).stdout
    wrong = run("log", "road.csv", "--export", "road.xyz", cwd=folder)
    assert wrong.returncode == 2
    assert "logs are not written as “xyz”" in wrong.stderr


def test_the_command_runs_in_a_process_of_its_own(folder):
    done = in_a_process("log", "road.csv", cwd=folder)
    assert (done.returncode, done.stderr) == (0, "")
    assert "engine_speed" in done.stdout
    wrong = in_a_process("log", "empty.csv", cwd=folder)
    assert (wrong.returncode, wrong.stdout) == (2, "")
    assert "the file is empty" in wrong.stderr
    assert "Traceback" not in wrong.stderr


def test_log_lists_channels(folder):
    done = run("log", "road.csv", "--json", cwd=folder)
    data = json.loads(done.stdout)
    assert {row["quantity"] for row in data["channels"]} >= {"engine_speed", "lambda_measured"}
    assert data["duration_s"] == pytest.approx(1499 / 20)
    assert "engine_speed" in run("log", "road.csv", cwd=folder).stdout


def test_propose_then_diff(folder):
    done = run(
        *[
            "propose",
            "fuel",
            "road.csv",
            "--calibration",
            "base.json",
            "--table",
            "ve_main",
            "--out",
            "next.json",
            "--report",
            "r.json",
        ],
        cwd=folder,
    )
    assert done.returncode == 0, done.stderr
    assert done.stdout.startswith("fuel: Volumetric efficiency: ")
    report = json.loads((folder / "r.json").read_text())
    diff = json.loads(run("calibration", "diff", "base.json", "next.json", "--json", cwd=folder).stdout)
    changed = {(cell["i"], cell["j"]): cell["after"] for cell in diff["tables"][0]["cells"]}
    assert changed == {
        (cell["i"], cell["j"]): cell["after"] for cell in report["cells"] if cell["before"] != cell["after"]
    }
    assert run("calibration", "diff", "base.json", "base.json", cwd=folder).stdout == "The two are the same.\n"
    assert "cells changed" in run("calibration", "diff", "base.json", "next.json", cwd=folder).stdout


def test_bin_gathers_a_formula(folder):
    arguments = "bin road.csv --calibration base.json --table ve_main --estimator nearest --json --value"
    done = run(*arguments.split(), "lambda_measured - lambda_target", "--where", "engine_speed > 2000", cwd=folder)
    data = json.loads(done.stdout)
    cells = [cell for cell in data["cells"] if cell["samples"]]
    assert sum(cell["samples"] for cell in cells) == data["samples_used"] < data["samples"] == 1500
    assert all(cell["mean"] == pytest.approx(0.06, abs=0.02) for cell in cells)
    assert min(cell["x"] for cell in cells) == 2000


def test_the_database_has_nothing_to_stop_in_a_new_folder(folder, monkeypatch):
    monkeypatch.setenv("UCHIWA_HOME", str(folder / "home"))
    assert run("db", "stop", cwd=folder).stdout == "There was no database to stop.\n"


def test_bins_of_computed_channels(folder):
    (folder / "own.json").write_text('[{"id": "half_error", "formula": "fuel_error / 2", "unit": "%"}]')
    common = ("bin", "road.csv", "--calibration", "base.json", "--table", "ve_main", "--json")
    whole = json.loads(run(*common, "--value", "fuel_error", cwd=folder).stdout)
    half = json.loads(run(*common, "--value", "half_error", "--channels", "own.json", cwd=folder).stdout)
    pairs = [
        (a["mean"], b["mean"]) for a, b in zip(whole["cells"], half["cells"], strict=True) if a["mean"] is not None
    ]
    assert len(pairs) > 20
    assert all(b == pytest.approx(a / 2) for a, b in pairs)
    (folder / "circle.json").write_text('[{"id": "again", "formula": "again + 1"}]')
    done = run(*common, "--value", "again", "--channels", "circle.json", cwd=folder)
    assert (done.returncode, "computed from itself" in done.stderr) == (2, True)


def test_a_knock_proposal_tells_its_clusters_and_only_takes_out(folder, tmp_path):
    from dataclasses import replace

    from bench.spark import advanced
    from uchiwa.core.logs.writers import write_log
    from uchiwa.standin.cars import calibrated
    from uchiwa.standin.fleet import car_named
    from uchiwa.standin.simulate import simulate

    pike = car_named("corvid-pike")
    calibration = advanced(calibrated(pike), 9.0)
    (tmp_path / "flashed.json").write_text(calibration_json.dumps(calibration))
    log = simulate(replace(pike, knock_channels=True), calibration, "full_load_pull", 1)
    (tmp_path / "pull.csv").write_bytes(write_log(log, "csv"))
    words = ["propose", "knock", "pull.csv", "--calibration", "flashed.json", "--table", "spark_main"]
    done = run(*words, "--out", "next.json", "--report", "why.json", cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "events, worst" in done.stdout
    after = calibration_json.loads((tmp_path / "next.json").read_text()).table("spark_main").grid
    assert (after <= calibration.table("spark_main").grid).all()
    assert (after < calibration.table("spark_main").grid).any()
    report = json.loads((tmp_path / "why.json").read_text())
    assert sum(one["events"] for one in report["clusters"]) == report["events"]
    wrong = run(*words[:3], "--calibration", "flashed.json", "--table", "ve_main", "--out", "x.json", cwd=tmp_path)
    assert (wrong.returncode, wrong.stdout) == (2, "")
    assert "is not a spark table" in wrong.stderr


def test_a_recording_of_a_bus_is_read_by_its_dbc(tmp_path):
    run("standin", "drive", "--drive", "warm_idle", "--out", "drive.blf", "--dbc", "car.dbc", cwd=tmp_path)
    said = run("log", "drive.blf", "--dbc", "car.dbc", cwd=tmp_path)
    assert "engine_speed" in said.stdout
    assert "car.dbc, which knows 100% of the frames" in said.stdout
    without = run("log", "drive.blf", cwd=tmp_path)
    assert without.returncode == 2
    assert "no description (DBC) says what they mean" in without.stderr
