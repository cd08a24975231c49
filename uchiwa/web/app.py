"""The application: middleware, routers, and what is said when something goes wrong."""

from __future__ import annotations

import logging

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, RedirectResponse, Response
from fastapi.staticfiles import StaticFiles
from starlette.exceptions import HTTPException
from starlette.middleware.base import RequestResponseEndpoint
from starlette.middleware.sessions import SessionMiddleware

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.language import FormulaError
from uchiwa.store.drafts import CannotPutBackError, StaleDraftError
from uchiwa.web.limits import GuardMiddleware, TooLargeError
from uchiwa.web.pages import HERE, render
from uchiwa.web.routes import (
    airflow,
    archives,
    brief,
    cars,
    channels,
    checks,
    clouds,
    compare,
    customer,
    fuel,
    health,
    home,
    images,
    jobs,
    logs,
    moments,
    notes,
    reading,
    returns,
    review,
    settings,
    setups,
    signing,
    spark_pulls,
    spark_tables,
    spark_words,
    tables,
)
from uchiwa.web.session import NotSignedInError

_ROUTES = (
    signing, home, archives, jobs, cars, brief, logs, reading, moments, clouds, notes, channels, checks, customer, fuel, spark_pulls, spark_words, spark_tables, airflow, setups, tables, compare, images, review, returns,
    settings, health,
)  # fmt: skip
_SESSION_S = 14 * 24 * 3600
_log = logging.getLogger("uchiwa.web")


def _wants_page(request: Request) -> bool:
    return "x-fragment" not in request.headers


def _said(request: Request, status: int, title: str, text: str) -> Response:
    if not _wants_page(request):
        return JSONResponse({"said": text}, status)
    return render(request, "error.html", status=status, title=title, text=text)


async def _bad_input(request: Request, error: Exception) -> Response:
    if isinstance(error, FormulaError) and not _wants_page(request):
        place = {"what": error.what, "position": error.position, "length": error.length}
        return JSONResponse({"said": str(error)} | place, 400)
    return _said(request, 400, "That cannot be used", str(error))


async def _not_signed_in(request: Request, _error: Exception) -> Response:
    if not _wants_page(request):
        return JSONResponse({"said": "You are signed out. Reload the page to sign in."}, 401)
    return RedirectResponse("/sign-in", 303)


async def _stale(request: Request, error: Exception) -> Response:
    since = error.since if isinstance(error, StaleDraftError) else ()
    what = f" What was done meanwhile: {'; '.join(since[-5:])}." if since else ""
    return _said(
        request,
        409,
        "The draft has changed",
        "Somebody, perhaps you in another window, changed this draft after you opened the page. Nothing was "
        f"overwritten: reload, and look at it as it is now.{what}",
    )


async def _cannot_put_back(request: Request, _error: Exception) -> Response:
    return _said(
        request,
        409,
        "This step stays",
        "There is no step to undo or to do again here: only the last step can be put back, and not over a temporary setup.",
    )


async def _http(request: Request, error: Exception) -> Response:
    status = error.status_code if isinstance(error, HTTPException) else 500
    detail = str(error.detail) if isinstance(error, HTTPException) else ""
    words = {404: "There is no such page, or it is not yours.", 405: "This address does not take that."}
    return _said(request, status, "Not here" if status == 404 else "That did not work", words.get(status, detail))


async def _wrong_form(request: Request, error: Exception) -> Response:
    fields = "the form"
    if isinstance(error, RequestValidationError):
        fields = ", ".join(sorted({str(one["loc"][-1]) for one in error.errors()}))
    return _said(request, 400, "That cannot be used", f"Something is missing or malformed: {fields}.")


async def _failure(request: Request, error: Exception) -> Response:
    _log.error("failure at %s", request.url.path, exc_info=error)
    return _said(
        request,
        503,
        "Something broke on our side",
        "It is noted in the server's log, and nothing of yours is lost. Try again in a moment.",
    )


def create_app(secret_key: str, *, demo: bool = False) -> FastAPI:
    """The application; the database must have been connected.

    Args:
        secret_key: signs the sessions.
        demo: whether customers' pages offer the stand-in cars.
    """
    app = FastAPI(title="Uchiwa", docs_url=None, redoc_url=None, openapi_url=None)
    app.state.demo = demo
    for module in _ROUTES:
        app.include_router(module.router)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    app.add_exception_handler(BadInput, _bad_input)
    app.add_exception_handler(NotSignedInError, _not_signed_in)
    app.add_exception_handler(StaleDraftError, _stale)
    app.add_exception_handler(CannotPutBackError, _cannot_put_back)
    app.add_exception_handler(HTTPException, _http)
    app.add_exception_handler(RequestValidationError, _wrong_form)

    @app.middleware("http")
    async def no_traceback(request: Request, call_next: RequestResponseEndpoint) -> Response:
        try:
            return await call_next(request)
        except TooLargeError:
            raise
        except Exception as error:
            return await _failure(request, error)

    app.add_middleware(
        SessionMiddleware, secret_key=secret_key, same_site="lax", max_age=_SESSION_S, session_cookie="uchiwa"
    )
    app.add_middleware(GuardMiddleware)
    return app
