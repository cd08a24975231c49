"""The application: middleware and routers."""

from __future__ import annotations

import gc
import os
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from anyio import CapacityLimiter, to_thread
from fastapi import FastAPI, Request
from fastapi.responses import Response
from starlette.middleware.base import RequestResponseEndpoint
from uvicorn.middleware.proxy_headers import ProxyHeadersMiddleware

from uchiwa.log_output import begin_logging
from uchiwa.parent import end_with_parent
from uchiwa.services import log_cache
from uchiwa.settings import DEMO, Settings, read_settings
from uchiwa.store import kept_results
from uchiwa.store.database import THREADS, connect_to
from uchiwa.store.place import Place
from uchiwa.web import health_routes
from uchiwa.web.account import (
    account_routes,
    joining_routes,
    passkey_routes,
    settings_routes,
    signing_routes,
    token_routes,
)
from uchiwa.web.api import docs_routes
from uchiwa.web.api.app import create_api
from uchiwa.web.api.caller import PATH as API
from uchiwa.web.customer import live_phone, live_program
from uchiwa.web.customer import routes as customer_routes
from uchiwa.web.errors import add_handlers, failure
from uchiwa.web.requests.browser import BrowserMiddleware
from uchiwa.web.requests.gate import Gate
from uchiwa.web.requests.limits import GuardMiddleware, SlowSenderError, TooLargeError
from uchiwa.web.requests.measuring import MeasuringMiddleware
from uchiwa.web.requests.request_id import RequestIdMiddleware
from uchiwa.web.shop import (
    archive_routes,
    car_routes,
    channel_routes,
    check_routes,
    description_routes,
    hand_routes,
    home_routes,
    image_routes,
    job_routes,
    mailbox_routes,
    operation_routes,
    people_routes,
    setup_routes,
    shelf_routes,
)
from uchiwa.web.shop import (
    customer_routes as shop_customer_routes,
)
from uchiwa.web.shop import (
    settings_routes as shop_settings_routes,
)
from uchiwa.web.static_files import mount_static
from uchiwa.web.stations.bins import routes as bins_routes
from uchiwa.web.stations.brief import routes as brief_routes
from uchiwa.web.stations.fuel import airflow_routes, clamp_routes
from uchiwa.web.stations.fuel import routes as fuel_routes
from uchiwa.web.stations.idle import routes as idle_routes
from uchiwa.web.stations.live import routes as live_routes
from uchiwa.web.stations.logs import routes as log_routes
from uchiwa.web.stations.reading import cloud_routes, moment_routes, note_routes
from uchiwa.web.stations.reading import routes as reading_routes
from uchiwa.web.stations.returns import routes as return_routes
from uchiwa.web.stations.review import routes as review_routes
from uchiwa.web.stations.spark import judgement_routes, pull_routes
from uchiwa.web.stations.spark import table_routes as spark_table_routes
from uchiwa.web.stations.tables import compare_routes, constant_routes, edit_routes
from uchiwa.web.stations.tables import routes as table_routes

_ROUTES = (
    signing_routes, joining_routes, account_routes, home_routes, archive_routes, job_routes, shelf_routes, description_routes, car_routes, brief_routes, log_routes, live_routes, reading_routes, moment_routes,
    cloud_routes, note_routes, channel_routes, check_routes, customer_routes, live_phone, live_program, fuel_routes, pull_routes, judgement_routes,
    spark_table_routes, idle_routes, clamp_routes, bins_routes, airflow_routes, setup_routes, table_routes, edit_routes, constant_routes, compare_routes, image_routes, review_routes, return_routes,
    passkey_routes, settings_routes, hand_routes, shop_customer_routes, people_routes, shop_settings_routes, mailbox_routes, operation_routes, health_routes, token_routes, docs_routes,
)  # fmt: skip

_GARBAGE = (50_000, 20, 50)
_NICE = 5
"""Pages by the hundred are not to hold up a single file that somebody waits for; files by the hundred wait for pages."""


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
    os.nice(_NICE)
    settings = read_settings()
    begin_logging(settings)
    log_cache.allow(settings.cache_megabytes)
    log_cache.share(kept_results.open_for(settings, place))
    app = create_app(*place.secrets, demo=os.environ.get(DEMO) == "yes", settings=settings)
    _leave_alone_what_stays()
    return app


def _leave_alone_what_stays() -> None:
    """Have the collector of garbage pass over all that is loaded by now, and go through everything more seldom.

    It held up every request of the process for a quarter of a second each time it went through it.
    """
    gc.collect()
    gc.freeze()
    gc.set_threshold(*_GARBAGE)


def create_app(*secrets: str, demo: bool = False, settings: Settings | None = None) -> FastAPI:
    """The application; the database must have been connected.

    Args:
        secrets: from which the tokens of forms and devices follow, the newest first.
        demo: whether customers' pages offer the stand-in cars.
        settings: what a person has set from outside.
    """
    found = settings or Settings()
    app = FastAPI(title="Uchiwa", docs_url=None, redoc_url=None, openapi_url=None, lifespan=_lifespan)
    # A redirect of the framework names the host that the request names; ours are paths (`web/errors.py`).
    app.router.redirect_slashes = False
    app.state.demo = demo
    app.state.settings = found
    # Taken as they are: to include a router is to analyse every route of it once more, 0.6 s for each process.
    for module in _ROUTES:
        app.router.routes.extend(module.router.routes)
    app.mount(API, create_api())
    mount_static(app)
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
    app.add_middleware(BrowserMiddleware, secrets=secrets, secure=found.https)
    app.add_middleware(GuardMiddleware, strict=found.https)
    if found.trusted_proxies:
        app.add_middleware(ProxyHeadersMiddleware, trusted_hosts=found.trusted_proxies)
    app.add_middleware(RequestIdMiddleware)
    app.add_middleware(MeasuringMiddleware)
    return app
