"""What the documentation shows must be true."""

from __future__ import annotations

import json
import re
import shlex
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner

from uchiwa.cli import uchiwa
from uchiwa.core.formulas.computed import SHIPPED
from uchiwa.core.formulas.evaluation import Scope, evaluate
from uchiwa.core.formulas.language import FUNCTIONS
from uchiwa.core.logs.readers import read_log
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.review.rules import RULES
from uchiwa.core.tables.a2l import assignment
from uchiwa.core.tables.editing.line import VERBS
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.fleet import car_named

ROOT = Path(__file__).parents[2]
DOCUMENTS = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]


def blocks(path: Path, language: str) -> list[str]:
    """Fenced blocks of a language."""
    fenced = re.findall(r"^```(\w*)\n(.*?)^```$", path.read_text(), re.S | re.M)
    return [text for name, text in fenced if name == language]


def test_the_example_calibration_is_valid():
    calibration, policy = blocks(ROOT / "docs" / "formats.md", "json")
    assert calibration_json.loads(calibration).table("ve_main").grid[2, 1] == 80
    assert Policy.read(json.loads(policy)) == Policy()


@pytest.mark.parametrize(
    ("language", "kind"), [("idle", IdleAirPolicy), ("warmup", WarmUpPolicy), ("clamp", ClampPolicy)]
)
def test_the_example_policies_are_the_defaults(language, kind):
    assert kind.read(json.loads(blocks(ROOT / "docs" / "formats.md", language)[0])) == kind()


def test_the_commands_of_idle_run_and_find_something(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    lines = [line for line in blocks(ROOT / "docs" / "idle.md", "")[-1].splitlines() if line.startswith("uchiwa ")]
    assert len(lines) == 8
    for line in lines:
        done = CliRunner().invoke(uchiwa, shlex.split(line)[1:], catch_exceptions=False)
        assert done.exit_code == 0, (line, done.output)
        if line.startswith("uchiwa propose"):
            assert "cells changed" in done.output or "nothing to change" not in done.output, done.output
    before, after = (calibration_json.loads((tmp_path / f"{name}.json").read_text()) for name in ("idle", "warm"))
    assert (after.table("warmup").grid != before.table("warmup").grid).any()


def test_the_example_layout_describes_an_image():
    layout = layout_json.loads(blocks(ROOT / "docs" / "formats.md", "layout")[0])
    assert [(table.id, table.place.length) for table in layout.tables] == [("ve_main", 18)]


def test_the_example_assignment_says_what_is_taken():
    (block,) = blocks(ROOT / "docs" / "shelf.md", "assignment")
    told = assignment.loads(block)
    assert [one.role for one in told.take.values()] == ["volumetric_efficiency"]
    assert [given.quantity for given in told.inputs.values()] == ["engine_speed"]
    assert len(told.checksums) == 1


def test_every_word_of_the_cell_line_is_documented():
    text = (ROOT / "docs" / "calibrations.md").read_text()
    assert [verb.written for verb in VERBS.values() if f"`{verb.written}`" not in text] == []


def test_every_rule_of_the_review_is_documented():
    text = (ROOT / "docs" / "calibrations.md").read_text().split("## Review")[1].split("## Return")[0]
    assert text.count("\n| ") - 1 == len(RULES)


def test_the_example_log_is_read():
    example = next(block for block in blocks(ROOT / "docs" / "formats.md", "") if block.startswith("# revision"))
    log = read_log(example.encode(), "example.csv")
    assert log.notes["revision"] == "corvid-pike, revision 2"
    assert len(log.quantities) == 3


def test_the_commands_of_the_readme_run(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    lines = [
        line for block in blocks(ROOT / "README.md", "") for line in block.splitlines() if line.startswith("uchiwa ")
    ]
    shown = blocks(ROOT / "docs" / "formats.md", "")[-1].replace("\\\n", " ")
    assert len(lines) == 13
    for line in [*lines, shown]:
        done = CliRunner().invoke(uchiwa, shlex.split(line)[1:], catch_exceptions=False)
        assert done.exit_code == 0, line


@pytest.mark.parametrize("formula", blocks(ROOT / "docs" / "reading.md", "formula")[0].splitlines())
def test_the_example_formulas_can_be_evaluated(formula):
    names = [quantity for quantity in QUANTITIES if quantity not in ("knock_level", "ethanol_content")]
    signals = {name: np.linspace(1.0, 90.0, 50) for name in names}
    car = car_named("corvid-pike")
    assert evaluate(formula, signals, np.arange(50) / 10, Scope(car.base(), car.file)).shape == (50,)


def test_every_function_and_shipped_channel_is_documented():
    text = (ROOT / "docs" / "reading.md").read_text()
    assert [name for name in FUNCTIONS if f"`{name}(" not in text] == []
    assert [one.id for one in SHIPPED if f"`{one.id}`" not in text] == []


@pytest.mark.parametrize("path", DOCUMENTS, ids=lambda path: path.name)
def test_links_lead_somewhere(path):
    for target in re.findall(r"\]\(([^)#]+)\)", path.read_text()):
        if not target.startswith("http"):
            assert (path.parent / target).exists(), target


def test_every_picture_is_linked_and_they_are_few():
    pictures = {path.name for path in (ROOT / "docs" / "screenshots").glob("*.png")}
    linked = set(re.findall(r"screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))
    assert linked <= pictures
    assert pictures - linked == set()
    assert len(pictures) < 20
