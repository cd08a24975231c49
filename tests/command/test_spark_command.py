"""`uchiwa pulls`, `propose torque`, `propose knock-threshold` and `standin dyno`."""

from __future__ import annotations

import json

import pytest
from click.testing import CliRunner

from uchiwa.cli import uchiwa
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.cars import pike_base
from uchiwa.standin.dyno import dyno_run, write_run
from uchiwa.standin.sprint import sprint_car

CAR = sprint_car()


@pytest.fixture
def folder(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "base.json").write_text(calibration_json.dumps(CAR.base()))
    for run, offset in ((1, 0.0), (2, -4.0), (3, -8.0), (4, 0.0), (5, 1.0)):
        (tmp_path / f"run{run}.csv").write_bytes(write_run(dyno_run(CAR, CAR.base(), 3, run, offset=offset)))
    (tmp_path / "loud.csv").write_bytes(write_run(dyno_run(CAR, CAR.base(), 3, 6, offset=7.0), timed=False))
    return tmp_path


def invoke(*words: str):
    return CliRunner().invoke(uchiwa, words, catch_exceptions=False)


RUNS = [f"run{one}.csv" for one in range(1, 6)]


def test_pulls_are_told_by_bands_with_how_well_they_repeat(folder):
    told = invoke("pulls", *RUNS)
    assert told.exit_code == 0
    assert "from 2 like runs" in told.output
    data = json.loads(invoke("pulls", *RUNS, "--json").output)
    assert [one["source"] for one in data["pulls"]] == ["dyno"] * 5
    assert data["repeatability"]["alike"] == [[0, 3]]
    plain = json.loads(invoke("pulls", *RUNS, "--as-measured", "--json").output)
    assert plain["pulls"][0]["weather_factor"] is None
    band = len(data["bands"]) // 2
    factor = data["pulls"][0]["weather_factor"]
    assert data["pulls"][0]["torque"][band] == pytest.approx(plain["pulls"][0]["torque"][band] * factor, abs=0.02)


def test_torque_is_proposed_with_a_reason_for_every_column(folder):
    told = invoke(
        "propose", "torque", *RUNS, "--calibration", "base.json", "--table", "spark_main", "--out", "n.json",
        "--report", "why.json",
    )  # fmt: skip
    assert told.exit_code == 0
    assert "a degree is worth" in told.output
    report = json.loads((folder / "why.json").read_text())
    assert len(report["pulls"]) == 5
    before, after = (
        calibration_json.loads((folder / one).read_text()).table("spark_main").grid for one in ("base.json", "n.json")
    )
    assert abs(after - before).max() <= 2.0 + 1e-9
    for cell in report["cells"]:
        assert after[cell["j"], cell["i"]] == cell["after"]


def test_a_knock_limit_is_proposed_from_safe_runs(folder):
    told = invoke(
        "propose", "knock-threshold", "loud.csv", "--safe", "run2.csv", "--safe", "run3.csv",
        "--calibration", "base.json", "--table", "knock_limit", "--out", "n.json", "--report", "why.json",
    )  # fmt: skip
    assert told.exit_code == 0
    assert "real events it catches" in told.output
    report = json.loads((folder / "why.json").read_text())
    assert report["safe"]["flagged_then"] <= report["safe"]["flagged_now"]
    assert report["real"]["events"] > 0
    (folder / "policy.json").write_text('{"margin": 1.8}')
    wider = invoke(
        "propose", "knock-threshold", "run2.csv", "--calibration", "base.json", "--table", "knock_limit",
        "--policy", "policy.json", "--out", "w.json",
    )  # fmt: skip
    assert wider.exit_code == 0
    grids = [
        calibration_json.loads((folder / one).read_text()).table("knock_limit").grid for one in ("n.json", "w.json")
    ]
    assert (grids[1] > grids[0]).all()


def test_a_dynos_file_is_written_with_and_without_time(folder):
    for words in ((), ("--by-speed",)):
        assert invoke("standin", "dyno", "--run", "2", "--offset", "-2", "--out", "d.csv", *words).exit_code == 0
        text = (folder / "d.csv").read_text()
        assert ("Time;" in text) is (not words)
        assert invoke("pulls", "d.csv").exit_code == 0


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["pulls", "base.csv"], "no full-load pull was found"),
        (["propose", "torque", "run1.csv", "--calibration", "base.json", "--table", "ve_main", "--out", "x"], "not a spark table"),
        (["propose", "knock-threshold", "run1.csv", "--calibration", "base.json", "--table", "spark_main", "--out", "x"], "knock limits"),
        (["propose", "torque", "run1.csv", "--calibration", "base.json", "--table", "spark_main", "--policy", "p.json", "--out", "x"], "the keys are"),
    ],
)  # fmt: skip
def test_what_is_wrong_is_one_sentence(folder, words, said):
    rows = "\n".join(f"{t / 10},{800 + t % 7}" for t in range(200))
    (folder / "base.csv").write_text(f"Time [s],Engine speed [rpm]\n{rows}\n")
    (folder / "p.json").write_text('{"strength": 2}')
    with pytest.raises(BadInput, match=said):
        invoke(*words)


def test_the_pike_has_no_knock_limit_to_set():
    assert pike_base().by_role("knock_limit") == ()
