"""The programming interface as an application of its own, so that it has its own description and its own errors."""

from __future__ import annotations

import logging
from typing import Any

from fastapi import Depends, FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from starlette.exceptions import HTTPException

from uchiwa import __version__
from uchiwa.core.errors import BadInput
from uchiwa.store.conflict import ConflictError
from uchiwa.store.database import can_run_again, has_no_room
from uchiwa.web.api import jobs, revisions, work
from uchiwa.web.api.caller import A_MINUTE, PATH, TooOftenError, bearer
from uchiwa.web.api.models import Refusal
from uchiwa.web.api.refusals import NO_TOKEN, PROBLEM, TOO_OFTEN, said

_log = logging.getLogger("uchiwa.api")
_REFUSALS: dict[int | str, dict[str, Any]] = {
    400: {"model": Refusal, "description": "Something cannot be used."},
    401: {"model": Refusal, "description": "There is no token that works."},
    403: {"model": Refusal, "description": "The token lacks the scope."},
    404: {"model": Refusal, "description": "There is no such thing in your shop."},
    409: {"model": Refusal, "description": "Somebody was quicker."},
    422: {"model": Refusal, "description": "An argument is not what the description says."},
    429: {"model": Refusal, "description": f"More than {A_MINUTE} requests came within a minute."},
    503: {"model": Refusal, "description": "The database cannot be reached just now."},
}  # fmt: skip
_WORDS = {401: NO_TOKEN, 404: "There is no such thing here.", 405: "This cannot be asked in this way."}


class _Api(FastAPI):
    """Says of every refusal that it comes as problem details."""

    def openapi(self) -> dict[str, Any]:
        """The description, made once."""
        if self.openapi_schema is None:
            for methods in super().openapi()["paths"].values():
                for told in methods.values():
                    for status, answer in told["responses"].items():
                        if status >= "400" and "application/json" in answer.get("content", {}):
                            answer["content"] = {PROBLEM: answer["content"]["application/json"]}
        return super().openapi()


def create_api() -> FastAPI:
    """The application, to be mounted at `PATH`."""
    app = _Api(
        title="Uchiwa", version=__version__, openapi_url="/openapi.json", docs_url=None, redoc_url=None,
        description="Jobs, logs in, findings out, proposals, revisions and bins. Every request carries a token of yours.",
        dependencies=[Depends(bearer)], responses=_REFUSALS, servers=[{"url": PATH}], root_path_in_servers=False,
    )  # fmt: skip
    for module in (jobs, work, revisions):
        app.include_router(module.router)
    app.add_exception_handler(HTTPException, _http)
    app.add_exception_handler(RequestValidationError, _not_valid)
    app.add_exception_handler(TooOftenError, _too_often)
    app.add_exception_handler(BadInput, lambda _request, error: said(400, str(error)))
    app.add_exception_handler(ConflictError, lambda _request, error: said(409, str(error)))
    app.add_exception_handler(Exception, _failed)
    return app


def _http(_request: Request, error: Exception) -> Response:
    if not isinstance(error, HTTPException):
        raise error
    words = error.detail if error.detail and " " in error.detail and error.status_code != 405 else ""
    return said(error.status_code, words or _WORDS.get(error.status_code, error.detail), dict(error.headers or {}))


def _not_valid(_request: Request, error: Exception) -> Response:
    if not isinstance(error, RequestValidationError):
        raise error
    first = error.errors()[0]
    place = ".".join(str(one) for one in first["loc"])
    return said(422, f"{place}: {first['msg'][:1].lower()}{first['msg'][1:]}.")


def _too_often(_request: Request, _error: Exception) -> Response:
    return said(429, TOO_OFTEN)


def _failed(_request: Request, error: Exception) -> Response:
    if can_run_again(error):
        return said(503, "The database could not be reached just now. Ask again in a moment.", {"retry-after": "2"})
    if has_no_room(error):
        return said(503, "The disk of the server is full: nothing was kept. Whoever runs it has to make room.")
    _log.error("the programming interface failed", exc_info=error)
    return said(500, "Something failed at our side. It was noted.")
