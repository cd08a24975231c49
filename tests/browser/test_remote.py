"""`uchiwa remote` against the running application."""

from __future__ import annotations

import json
import subprocess
from pathlib import Path

import pytest

from tests.command.called import called
from tests.store.conftest import Scene, log_text, ready
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.standin.cars import pike_base
from uchiwa.store import api_tokens
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile


@pytest.fixture
def remote(served: str, scene: Scene, monkeypatch, tmp_path: Path):
    """The command with a token of all scopes."""
    with unit_of_work():
        token = api_tokens.make(scene.user, "a program", list(api_tokens.SCOPES), 30)
    monkeypatch.setenv("UCHIWA_URL", served)
    monkeypatch.setenv("UCHIWA_TOKEN", token)

    def run(*arguments: str) -> subprocess.CompletedProcess[str]:
        return called("remote", *arguments, cwd=tmp_path)

    return run


def test_a_log_is_sent_and_its_findings_proposal_bins_and_revision_come_back(remote, scene, tmp_path: Path):
    job = str(scene.job.id)
    assert "Corvid Pike" in remote("jobs").stdout
    log = tmp_path / "drive.csv"
    log.write_text(log_text())
    sent = remote("send", job, str(log))
    assert sent.returncode == 0, sent.stderr
    kept = LogFile.get(LogFile.job == scene.job)
    assert f"log {kept.id}" in sent.stdout
    ready(kept)
    found = json.loads(remote("findings", str(kept.id), "--json").stdout)
    assert found["log"]["state"] == "ready"
    assert any(load["state"] == "changed" for load in json.loads(remote("propose", job, "fuel").stdout)["cells"])
    bins = json.loads(remote("bin", job, "--table", "ve_main", "--value", "lambda_measured").stdout)
    assert any(one is not None for row in bins["figure"] for one in row)
    base = calibration_json.dumps(pike_base())
    assert remote("fetch", job, "--out", str(tmp_path / "next.json")).returncode == 0
    assert (tmp_path / "next.json").read_text() == base
    assert remote("fetch", job, "--out", str(tmp_path / "next.cdfx")).returncode == 0
    assert calibration_json.dumps(cdf.loads((tmp_path / "next.cdfx").read_bytes()).calibration) == base


def test_what_cannot_be_done_is_one_sentence_and_writes_nothing(remote, served, scene, tmp_path: Path):
    kept = tmp_path / "next.bin"
    without_image = remote("fetch", str(scene.job.id), "--out", str(kept))
    for told, word in (
        (remote("findings", "999999"), "log"),
        (remote("--token", "uchiwa_made-up", "jobs"), "token"),
        (remote("--url", "tune.example", "jobs"), "address"),
        (remote("--url", "http://127.0.0.1:9", "jobs"), "reached"),
        (without_image, "image"),
    ):
        assert told.returncode == 2, told.stderr
        assert word in told.stderr
        assert "Traceback" not in told.stderr
    assert not kept.exists()
