"""Rules of the house that no tool checks."""

from __future__ import annotations

import re
from pathlib import Path

UCHIWA = Path(__file__).parents[2] / "uchiwa"
_QUERY = re.compile(r"\b[A-Z]\w+\.(select|insert|update|delete|get_by_id|get_or_none|create)\(")


def test_no_page_writes_a_query():
    found = [f"{file.name}: {line.strip()}" for file in (UCHIWA / "web").rglob("*.py")
             for line in file.read_text().splitlines() if _QUERY.search(line)]  # fmt: skip
    assert found == []


def test_no_module_is_long():
    files = [*UCHIWA.rglob("*.py"), *(UCHIWA / "web/static/js").rglob("*.js")]
    assert [str(one) for one in files if len(one.read_text().splitlines()) > 400] == []
