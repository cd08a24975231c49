"""What queries find, with its type."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TypeVar

from peewee import Model, ModelSelect

Kind = TypeVar("Kind", bound=Model)


def rows(query: ModelSelect[Any]) -> Iterator[tuple[Any, ...]]:
    """What a query finds, as tuples of its columns in their order."""
    return iter(query.tuples())


def first(query: ModelSelect[Kind]) -> Kind | None:
    """The first row that a query finds, or None."""
    found: Kind | None = query.first()
    return found
