"""Two people at one form: what each of them changed is kept, and where both changed the same, the later one is told."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.store.conflict import ConflictError

_LONGEST = 40_000


def read_seen(text: str) -> dict[str, Any] | None:
    """What a form says its person saw, as it was written into it; None if it says nothing.

    Raises:
        BadInput: it is not what a form of ours carries.
    """
    if not text:
        return None
    advice = "reload the page and change it again"
    seen = read_json(text, where="what the form was made from", advice=advice, largest=_LONGEST)
    if not isinstance(seen, dict):
        raise BadInput("the form does not say what it was made from", advice=advice)
    return seen


def merge(seen: Mapping[str, Any] | None, mine: Mapping[str, Any], now: Mapping[str, Any], what: str) -> dict[str, Any]:
    """What is to be kept of a form that somebody else may have changed meanwhile.

    Args:
        seen: values by key as they were when the person opened the form; None: all of theirs are to be kept.
        mine: values as the person wants them.
        now: values as they are kept by now.
        what: the form, as people call it.

    Raises:
        ConflictError: the same was changed to something else meanwhile; says what and to which value.
    """
    if seen is None:
        return dict(mine)
    kept = dict(now)
    clashes: list[str] = []
    for key, value in mine.items():
        if value == seen.get(key):
            continue
        if now.get(key) not in (seen.get(key), value):
            clashes.append(f"{key.replace('_', ' ')} is {_written(now.get(key))} now")
        kept[key] = value
    if clashes:
        raise ConflictError(
            f"{what} has been changed meanwhile: {'; '.join(clashes)}. Nothing was overwritten: reload, and change it again."
        )
    return kept


def _written(value: Any) -> str:
    if isinstance(value, float):
        return f"{value:g}"
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= 60 else f"{text[:57]} …"


def mark_of(document: str) -> str:
    """A short mark of a document, by which a form tells which one it was made from."""
    return hashlib.sha256(document.encode()).hexdigest()[:16]
