"""Signing in and out."""

from __future__ import annotations

import asyncio
from typing import Annotated

from anyio import CapacityLimiter, to_thread
from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.store import accounts
from uchiwa.web.pages import render
from uchiwa.web.requests import session
from uchiwa.web.requests.address import address_of
from uchiwa.web.requests.browser import browser_of
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.routing import router as new_router

router = new_router()
_AT_ONCE = 2
_MOST_WAITING = 64


class _Hashing:
    """Passwords are hashed by few threads of their own: strangers can make each other wait, and nobody else."""

    def __init__(self) -> None:
        self.limiter = CapacityLimiter(_AT_ONCE)
        self.waiting = 0


_hashing: dict[int, _Hashing] = {}


def _hashing_here() -> _Hashing:
    """Those of the running event loop."""
    return _hashing.setdefault(id(asyncio.get_running_loop()), _Hashing())


@router.get("/sign-in")
def form(request: Request) -> Response:
    """The sign-in page."""
    return render(request, "sign_in.html", email="", problem=None)


@router.post("/sign-in", dependencies=[FromOurForm])
async def sign_in(
    request: Request, email: Annotated[str, Form(max_length=190)], password: Annotated[str, Form(max_length=200)]
) -> Response:
    """Check and begin a session."""
    browser, address, hashing = browser_of(request.scope), address_of(request.scope), _hashing_here()

    async def again(status: int, problem: str) -> Response:
        return await to_thread.run_sync(
            lambda: render(request, "sign_in.html", status=status, email=email, problem=problem)
        )

    if hashing.waiting >= _MOST_WAITING:
        return await again(429, "Very many people are signing in just now. Wait a minute, then try again.")
    hashing.waiting += 1
    try:
        known = browser.known_device(email)
        admission = await to_thread.run_sync(lambda: accounts.admit(email, address, device=known))
        await asyncio.sleep(admission.wait_s)
        user = await to_thread.run_sync(accounts.verify, admission, password, limiter=hashing.limiter)
    except accounts.TooManyAttemptsError:
        return await again(429, "Too many tries. Wait ten minutes, then try again.")
    finally:
        hashing.waiting -= 1
    if user is None:
        return await again(401, "This address and password do not belong together.")
    await to_thread.run_sync(session.begin, request, user)
    return RedirectResponse("/", 303)


@router.post("/sign-out", dependencies=[FromOurForm])
def sign_out(request: Request) -> Response:
    """End the session."""
    session.end(request)
    return RedirectResponse("/sign-in", 303)
