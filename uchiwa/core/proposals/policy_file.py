"""Policies from JSON, with an error that names the key."""

from __future__ import annotations

from typing import Any, Self, TypeVar

from pydantic import BaseModel, ConfigDict, ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json

Kind = TypeVar("Kind", bound=BaseModel)


def policy_from(kind: type[Kind], raw: Any, name: str = "policy") -> Kind:
    """A policy from plain data.

    Raises:
        BadInput: a key is wrong; says which, and lists the keys there are.
    """
    try:
        return kind.model_validate(raw)
    except ValidationError as error:
        first = error.errors(include_url=False)[0]
        where = ".".join(str(part) for part in first["loc"]) or "the file"
        known = first["type"] != "extra_forbidden"
        what = first["msg"].removeprefix("Value error, ") if known else "this key is not known"
        advice = "correct it" if known else f"the keys are {', '.join(kind.model_fields)}"
        raise BadInput(what[:1].lower() + what[1:], where=f"{name}, {where}", advice=advice) from error


def policy_of(kind: type[Kind], text: str, name: str = "policy") -> Kind:
    """A policy from JSON text.

    Raises:
        BadInput: it is not JSON, or a key is wrong.
    """
    return policy_from(kind, read_json(text, where=name, advice="write an object of the policy's keys"), name)


class PolicyFile(BaseModel):
    """A policy that knows how it is written; unknown keys are errors, and it does not change."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    @classmethod
    def read(cls, raw: Any, name: str = "policy") -> Self:
        """A policy from plain data.

        Raises:
            BadInput: says which key and why.
        """
        return policy_from(cls, raw, name)

    @classmethod
    def loads(cls, text: str, name: str = "policy") -> Self:
        """A policy from JSON text.

        Raises:
            BadInput: it is not JSON, or a key is wrong.
        """
        return policy_of(cls, text, name)
