"""Rules of the house that no tool checks."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

HOUSE = Path(__file__).parents[2]
UCHIWA = HOUSE / "uchiwa"
_QUERY = re.compile(r"\b[A-Z]\w+\.(select|insert|update|delete|get_by_id|get_or_none|create)\(")


def test_no_page_writes_a_query():
    found = [f"{file.name}: {line.strip()}" for file in (UCHIWA / "web").rglob("*.py")
             for line in file.read_text().splitlines() if _QUERY.search(line)]  # fmt: skip
    assert found == []


def modules() -> list[Path]:
    """Of the product, the benches and the tests."""
    return [one for part in ("uchiwa", "bench", "tests") for one in (HOUSE / part).rglob("*.py")]


def test_no_module_is_long():
    files = [*modules(), *(UCHIWA / "web/static/js").rglob("*.js"), *(HOUSE / "tests/js").rglob("*.js")]
    assert [str(file) for file in files if len(file.read_text().splitlines()) > 400] == []


def functions(body: list[ast.stmt]) -> Iterator[ast.FunctionDef | ast.AsyncFunctionDef]:
    """Of a module and its classes."""
    for one in body:
        if isinstance(one, (ast.FunctionDef, ast.AsyncFunctionDef)):
            yield one
        elif isinstance(one, ast.ClassDef):
            yield from functions(one.body)


def test_no_function_is_long():
    texts = {file: text for file in modules() if len((text := file.read_text()).splitlines()) > 80}
    found = [
        f"{file.name}: {function.name}"
        for file, text in texts.items()
        for function in functions(ast.parse(text).body)
        if function.end_lineno - function.lineno >= 80
    ]
    assert found == []
