"""Every kind of entry that the audit log knows is made by some act, and no act makes another."""

from __future__ import annotations

import ast
from pathlib import Path

import uchiwa
from uchiwa.store.audit import KINDS

NOTING = {"note", "changed", "_note"}


def kinds_noted() -> set[str]:
    """Texts that stand in calls which note something, or in what such a call is given by name."""
    found: set[str] = set()
    for path in Path(uchiwa.__path__[0]).rglob("*.py"):
        if path.name == "audit.py":
            continue
        text = path.read_text()
        if "audit" not in text and "joining" not in text:
            continue
        tree = ast.parse(text)
        for call in (node for node in ast.walk(tree) if isinstance(node, ast.Call)):
            name = call.func.attr if isinstance(call.func, ast.Attribute) else getattr(call.func, "id", "")
            if name in NOTING:
                found |= {part.value for given in call.args for part in ast.walk(given)
                          if isinstance(part, ast.Constant) and isinstance(part.value, str)}  # fmt: skip
        for node in ast.walk(tree):
            if isinstance(node, ast.Assign) and any(getattr(target, "id", "") == "kind" for target in node.targets):
                found |= {part.value for part in ast.walk(node.value) if isinstance(part, ast.Constant)}
    return found


def test_every_kind_is_made_by_some_act():
    assert sorted(set(KINDS) - kinds_noted()) == []
