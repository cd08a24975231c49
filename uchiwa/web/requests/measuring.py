"""Figures about requests for Prometheus, by route, never by person, address or path."""

from __future__ import annotations

import time

from prometheus_client import Counter, Histogram
from starlette.types import ASGIApp, Message, Receive, Scope, Send

_BUCKETS = (0.01, 0.025, 0.05, 0.1, 0.2, 0.3, 0.5, 1.0, 2.0, 5.0, 10.0, 30.0)
requests = Counter("uchiwa_requests", "Requests that were answered", ("method", "route", "status"))
seconds = Histogram("uchiwa_request_seconds", "Time until a request was answered whole", ("route",), buckets=_BUCKETS)
_METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS")


class MeasuringMiddleware:
    """Counts and times requests."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Measure one request."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        begun, status = time.monotonic(), 0

        async def noting(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
            await send(message)

        try:
            await self.app(scope, receive, noting)
        finally:
            route = _route_of(scope)
            method = scope["method"] if scope["method"] in _METHODS else "other"
            requests.labels(method, route, str(status)).inc()
            seconds.labels(route).observe(time.monotonic() - begun)


def _route_of(scope: Scope) -> str:
    """The route's pattern; what no route has taken is counted together."""
    route = scope.get("route")
    if route is not None:
        return str(route.path)
    return "/static" if scope["path"].startswith("/static/") else "none"
