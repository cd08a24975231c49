"""The description of the programming interface as a page, from its own OpenAPI."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import Any

from fastapi import Request
from fastapi.responses import Response

from uchiwa.store.api_tokens import SCOPES
from uchiwa.web.api.app import create_api
from uchiwa.web.api.caller import A_MINUTE, PATH
from uchiwa.web.pages import render
from uchiwa.web.requests.session import Person
from uchiwa.web.routing import router as new_router

router = new_router()


@dataclass(frozen=True)
class Argument:
    """An argument of a call: where it goes, its type in words, and what it is."""

    name: str
    place: str
    kind: str
    needed: bool
    words: str


@dataclass(frozen=True)
class Call:
    """One thing that can be asked for."""

    method: str
    path: str
    words: str
    arguments: tuple[Argument, ...]
    answer: str
    fields: tuple[Argument, ...]


def _kind(schema: dict[str, Any]) -> str:
    if "$ref" in schema:
        return str(schema["$ref"]).rpartition("/")[2]
    if "anyOf" in schema:
        return " or ".join(dict.fromkeys(_kind(one) for one in schema["anyOf"]))
    if "enum" in schema:
        return " | ".join(str(one) for one in schema["enum"])
    if schema.get("type") == "array":
        return f"list of {_kind(schema.get('items', {}))}"
    return str(schema.get("type", "any"))


@cache
def calls() -> tuple[tuple[str, tuple[Call, ...]], ...]:
    """All calls by what they are about."""
    described = create_api().openapi()
    parts = described["components"]["schemas"]
    found: dict[str, list[Call]] = {}
    for path, methods in described["paths"].items():
        for method, told in methods.items():
            given = [
                Argument(
                    one["name"], one["in"], _kind(one["schema"]), one.get("required", False), one.get("description", "")
                )
                for one in told.get("parameters", ())
            ]
            if "requestBody" in told:
                given.append(
                    Argument("file", "multipart form", "file", needed=True, words="The log, as the logger wrote it.")
                )
            good = next(told["responses"][code] for code in ("202", "200") if code in told["responses"])
            content = good.get("content", {})
            answer = (
                _kind(content.get("application/json", {}).get("schema", {}))
                if "application/json" in content
                else "file"
            )
            fields = tuple(
                Argument(name, "", _kind(one), needed=True, words=one.get("description", ""))
                for name, one in parts.get(answer, {}).get("properties", {}).items()
            )
            call = Call(method.upper(), f"{PATH}{path}", told.get("description", ""), tuple(given), answer, fields)
            found.setdefault(told["tags"][0], []).append(call)
    return tuple((tag, tuple(some)) for tag, some in found.items())


@router.get("/api/docs")
def docs(request: Request, user: Person) -> Response:
    """What programs can ask for, and how."""
    return render(request, "api_docs.html", user, calls=calls(), path=PATH, scopes=SCOPES, a_minute=A_MINUTE)
