"""Routers whose routes are run again when their transaction was lost through no fault of theirs."""

from __future__ import annotations

import inspect
from collections.abc import Callable
from typing import Any

from fastapi import APIRouter
from fastapi.routing import APIRoute
from starlette.datastructures import UploadFile

from uchiwa.store.database import run_again


def _rewind(*args: object, **kwargs: object) -> None:
    """Put uploads back to their beginning, for what runs again reads them again."""
    given = [*args, *kwargs.values()]
    for one in [*given, *(inner for outer in given if isinstance(outer, list) for inner in outer)]:
        if isinstance(one, UploadFile):
            one.file.seek(0)


class Route(APIRoute):
    """A route as FastAPI has it, whose function is run again after a deadlock or a lost connection."""

    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        again = endpoint if inspect.iscoroutinefunction(endpoint) else run_again(endpoint, _rewind)
        super().__init__(path, again, **more)


def router() -> APIRouter:
    """A router of such routes."""
    return APIRouter(route_class=Route)
