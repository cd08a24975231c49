"""Routers whose routes are run again when their transaction was lost through no fault of theirs."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Coroutine, Iterator
from dataclasses import fields, is_dataclass
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import Response
from fastapi.routing import APIRoute
from starlette.datastructures import FormData, ImmutableMultiDict, UploadFile

from uchiwa.core.words.plain_text import many_lines, one_line
from uchiwa.store.database import run_again

_AS_TYPED = ("password", "new")
"""Fields that are compared with a hash: their form is `store/passwords.py`'s."""


def _rewind(*args: object, **kwargs: object) -> None:
    """Put uploads back to their beginning, wherever they are among the arguments, for what runs again reads them again."""
    for part in (*args, *kwargs.values()):
        for file in _files_in(part):
            file.file.seek(0)


def _files_in(part: object) -> Iterator[UploadFile]:
    """The uploads of an argument: itself, those of a list, of a form, or of a form that is read as a dataclass."""
    if isinstance(part, UploadFile):
        yield part
    elif isinstance(part, ImmutableMultiDict):
        yield from (value for _, value in part.multi_items() if isinstance(value, UploadFile))
    elif isinstance(part, (list, tuple)):
        yield from (value for value in part if isinstance(value, UploadFile))
    elif is_dataclass(part) and not isinstance(part, type):
        yield from (value for field in fields(part) if isinstance(value := getattr(part, field.name), UploadFile))


class Route(APIRoute):
    """A route as FastAPI has it, whose function is run again after a deadlock or a lost connection."""

    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        """The route's handler, given cleaned forms."""
        handle = super().get_route_handler()

        async def handle_cleaned(request: Request) -> Response:
            return await handle(_CleanRequest(request.scope, request.receive))

        return handle_cleaned

    def __init__(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        again = endpoint if inspect.iscoroutinefunction(endpoint) else run_again(endpoint, _rewind)
        super().__init__(path, again, **more)


class _CleanRequest(Request):
    """A request whose form fields have one form each, whoever typed them: no controls, no marks that cannot be seen.

    Names of files that come with it are lines; bytes of files stay as they came.
    """

    async def _get_form(self, **limits: Any) -> FormData:
        form = await super()._get_form(**limits)
        clean: list[tuple[str, UploadFile | str]] = []
        for key, value in form.multi_items():
            if isinstance(value, UploadFile):
                value.filename = one_line(value.filename or "") or None
                clean.append((key, value))
            else:
                clean.append((key, value if key in _AS_TYPED else many_lines(value)))
        self._form = FormData(clean)
        return self._form


def router() -> APIRouter:
    """A router of such routes."""
    return APIRouter(route_class=Route)
