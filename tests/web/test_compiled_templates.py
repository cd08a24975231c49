"""Templates are compiled once for all processes, and never from an older text."""

from __future__ import annotations

import sys
from pathlib import Path

import pytest
from jinja2 import Environment, FileSystemLoader

from uchiwa.web.compiled_templates import compiled_beside


class Compiling(Environment):
    """Counts what it compiles."""

    compiled = 0

    def _compile(self, source, filename):
        self.compiled += 1
        return super()._compile(source, filename)


@pytest.fixture
def folder(tmp_path, monkeypatch) -> Path:
    """With one template, and Python as it is when it keeps compiled modules."""
    monkeypatch.setattr(sys, "dont_write_bytecode", False)
    (tmp_path / "page.html").write_text("Round {{ number }}")
    return tmp_path


def environment(folder: Path) -> Compiling:
    """As another process would have it."""
    return Compiling(loader=FileSystemLoader(folder), bytecode_cache=compiled_beside(folder))


def test_another_process_need_not_compile_it(folder):
    first, second = environment(folder), environment(folder)
    for one in (first, second):
        assert one.get_template("page.html").render(number=3) == "Round 3"
    assert (first.compiled, second.compiled) == (1, 0)


def test_a_changed_text_and_a_damaged_file_are_compiled_anew(folder):
    environment(folder).get_template("page.html")
    (folder / "page.html").write_text("Revision {{ number }}")
    changed = environment(folder)
    assert changed.get_template("page.html").render(number=3) == "Revision 3"
    (kept,) = (folder / "__pycache__" / "templates").iterdir()
    kept.write_bytes(kept.read_bytes()[:-20])
    damaged = environment(folder)
    assert damaged.get_template("page.html").render(number=4) == "Revision 4"
    assert (changed.compiled, damaged.compiled) == (1, 1)


def test_where_nothing_can_be_kept_it_is_compiled_each_time(folder, monkeypatch):
    monkeypatch.setattr(sys, "dont_write_bytecode", True)
    assert compiled_beside(folder) is None
    assert not (folder / "__pycache__").exists()
    monkeypatch.setattr(sys, "dont_write_bytecode", False)
    (folder / "__pycache__").write_text("a file where the folder should be")
    assert compiled_beside(folder) is None


def test_a_disk_that_is_full_is_no_fault_of_the_page(folder, monkeypatch):
    full = environment(folder)
    monkeypatch.setattr("tempfile.NamedTemporaryFile", lambda **_: (_ for _ in ()).throw(OSError(28, "No space left")))
    assert full.get_template("page.html").render(number=3) == "Round 3"
    assert list((folder / "__pycache__" / "templates").iterdir()) == []
