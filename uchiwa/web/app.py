"""The application: middleware and routers."""

from __future__ import annotations

import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from anyio import CapacityLimiter, to_thread
from fastapi import FastAPI, Request
from fastapi.responses import Response
from fastapi.staticfiles import StaticFiles
from starlette.middleware.base import RequestResponseEndpoint
from uvicorn.middleware.proxy_headers import ProxyHeadersMiddleware

from uchiwa.parent import end_with_parent
from uchiwa.settings import DEMO, Settings, read_settings
from uchiwa.store.database import THREADS, connect_to
from uchiwa.store.place import Place
from uchiwa.web.browser import BrowserMiddleware
from uchiwa.web.errors import add_handlers, failure
from uchiwa.web.gate import Gate
from uchiwa.web.limits import GuardMiddleware, SlowSenderError, TooLargeError
from uchiwa.web.pages import HERE
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

_ROUTES = (
    signing, home, archives, jobs, cars, brief, logs, reading, moments, clouds, notes, channels, checks, customer, fuel, spark_pulls, spark_words, spark_tables, airflow, setups, tables, compare, images, review, returns,
    settings, health,
)  # fmt: skip


@asynccontextmanager
async def _lifespan(_app: FastAPI) -> AsyncIterator[None]:
    """As many threads as there are connections for, so that none waits for another's."""
    limiter: CapacityLimiter = to_thread.current_default_thread_limiter()
    limiter.total_tokens = THREADS
    yield


def served() -> FastAPI:
    """The application of a process that `uchiwa serve` has started, for the database on file; it ends with its parent."""
    place = Place.load()
    if place is None:
        raise RuntimeError("there is no database yet")
    connect_to(place)
    end_with_parent()
    return create_app(place.secret_key, demo=os.environ.get(DEMO) == "yes", settings=read_settings())


def create_app(secret_key: str, *, demo: bool = False, settings: Settings | None = None) -> FastAPI:
    """The application; the database must have been connected.

    Args:
        secret_key: from which the tokens of forms and devices follow.
        demo: whether customers' pages offer the stand-in cars.
        settings: what a person has set from outside.
    """
    found = settings or Settings()
    app = FastAPI(title="Uchiwa", docs_url=None, redoc_url=None, openapi_url=None, lifespan=_lifespan)
    app.state.demo = demo
    app.state.settings = found
    for module in _ROUTES:
        app.include_router(module.router)
    app.mount("/static", StaticFiles(directory=HERE / "static"), name="static")
    add_handlers(app)

    @app.middleware("http")
    async def no_traceback(request: Request, call_next: RequestResponseEndpoint) -> Response:
        try:
            return await call_next(request)
        except (TooLargeError, SlowSenderError):
            raise
        except Exception as error:
            return failure(request, error)

    # The last one added is the first to see a request.
    app.add_middleware(Gate)
    app.add_middleware(BrowserMiddleware, secret=secret_key, secure=found.https)
    app.add_middleware(GuardMiddleware)
    if found.trusted_proxies:
        app.add_middleware(ProxyHeadersMiddleware, trusted_hosts=found.trusted_proxies)
    return app
