"""Every regular expression of the application, and texts that are made to keep it busy."""

from __future__ import annotations

import ast
import importlib
import pkgutil
import re
import re._constants as sre
import re._parser as parser
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import uchiwa


def compiled() -> dict[str, re.Pattern[Any]]:
    """All that modules hold, also within their tuples, mappings and classes, by a name."""
    found: dict[int, tuple[str, re.Pattern[Any]]] = {}
    for module in pkgutil.walk_packages(uchiwa.__path__, "uchiwa."):
        if module.name.endswith("__main__"):
            continue
        for name, value in vars(importlib.import_module(module.name)).items():
            for pattern in _within(value, 0):
                found.setdefault(id(pattern), (f"{module.name}.{name}", pattern))
    return {f"{name} {pattern.pattern!r:.60}": pattern for name, pattern in found.values()}


def _within(value: Any, depth: int) -> Iterator[re.Pattern[Any]]:
    if isinstance(value, re.Pattern):
        yield value
    elif depth < 4 and isinstance(value, (tuple, list, set, frozenset)):
        for inner in value:
            yield from _within(inner, depth + 1)
    elif depth < 4 and isinstance(value, dict):
        for inner in list(value.items()):
            yield from _within(inner, depth + 1)
    elif depth < 2 and isinstance(value, type) and value.__module__.startswith("uchiwa"):
        for inner in list(vars(value).values()):
            yield from _within(inner, depth + 1)


def inline() -> list[str]:
    """Where a pattern is used that no module holds: it would not be found here."""
    places = []
    for path in sorted(Path(uchiwa.__path__[0]).rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                of = node.func.value
                if isinstance(of, ast.Name) and of.id == "re" and node.func.attr not in ("compile", "escape"):
                    places.append(f"{path}:{node.lineno}")
    return places


def _example(parts: Any) -> str:
    """A short text that a part of a pattern matches; what it looks ahead or behind for is passed over."""
    text = ""
    for kind, told in parts:
        if kind is sre.LITERAL:
            text += chr(told)
        elif kind in (sre.NOT_LITERAL, sre.ANY):
            text += "a" if told != ord("a") else "b"
        elif kind is sre.IN:
            text += _of_class(told)
        elif kind in (sre.MAX_REPEAT, sre.MIN_REPEAT, sre.POSSESSIVE_REPEAT):
            text += _example(told[2]) * max(1, told[0])
        elif kind is sre.SUBPATTERN:
            text += _example(told[3])
        elif kind is sre.ATOMIC_GROUP:
            text += _example(told)
        elif kind is sre.BRANCH:
            text += _example(told[1][0])
    return text


def _of_class(items: Any) -> str:
    if items[0][0] is sre.NEGATE:
        return next(one for one in "a1 -.x/\n" if not any(_is_in(one, item) for item in items[1:]))
    for kind, told in items:
        if kind is sre.LITERAL:
            return chr(told)
        if kind is sre.RANGE:
            return chr(told[0])
        if kind is sre.CATEGORY:
            return {sre.CATEGORY_DIGIT: "1", sre.CATEGORY_SPACE: " ", sre.CATEGORY_WORD: "a"}.get(told, "-")
    return "a"


def _is_in(character: str, item: Any) -> bool:
    kind, told = item
    if kind is sre.LITERAL:
        return ord(character) == told
    if kind is sre.RANGE:
        return told[0] <= ord(character) <= told[1]
    return {sre.CATEGORY_DIGIT: str.isdigit, sre.CATEGORY_SPACE: str.isspace, sre.CATEGORY_WORD: str.isalnum}[told](
        character
    )


def _pieces(parts: Any, before: str = "") -> Iterator[tuple[str, str]]:
    """Each repetition and each alternative: what leads to it, and what is repeated."""
    for at, (kind, told) in enumerate(parts):
        lead = before + _example(parts[:at])
        if kind in (sre.MAX_REPEAT, sre.MIN_REPEAT, sre.POSSESSIVE_REPEAT):
            yield lead, _example(told[2])
            yield from _pieces(told[2], lead)
        elif kind in (sre.SUBPATTERN, sre.ATOMIC_GROUP):
            yield from _pieces(told[3] if kind is sre.SUBPATTERN else told, lead)
        elif kind is sre.BRANCH:
            for branch in told[1]:
                yield lead, _example(branch)
                yield from _pieces(branch, lead)


def hostile(pattern: re.Pattern[Any]) -> set[tuple[str, str, str]]:
    """Beginnings, what is repeated, and endings: of a pattern's own literals, so that it nearly matches at many places."""
    tree = list(
        parser.parse(pattern.pattern, pattern.flags & ~re.DEBUG if isinstance(pattern.pattern, str) else pattern.flags)
    )
    whole = _example(tree)
    pumps = {(lead, pump) for lead, pump in _pieces(tree)}
    pumps |= {("", whole[:end]) for end in range(1, min(len(whole), 40) + 1)}
    pumps |= {("", whole[start:]) for start in range(1, min(len(whole), 40))}
    pumps |= {("", lead + more) for lead, pump in list(pumps) if lead for more in (pump, "", " ")}
    pumps |= {("", pump) for _, pump in list(pumps)} | {("", " "), ("", "\n"), ("", "a"), ("", "1")}
    marks = sorted({one for _, pump in pumps for one in pump if not one.isalnum()})[:6]
    pumps |= {("", one + other) for one in marks for other in marks} | {
        (one, other + one) for one in marks for other in marks
    }
    return {(lead, pump, end) for lead, pump in pumps if pump for end in ("", "\0", whole)}


def text_of(pattern: re.Pattern[Any], shape: tuple[str, str, str], size: int) -> Any:
    """A hostile text of about so many characters, as the pattern takes it."""
    lead, pump, end = shape
    text = lead + pump * (size // len(pump)) + end
    return text if isinstance(pattern.pattern, str) else text.encode("latin-1", "replace")
