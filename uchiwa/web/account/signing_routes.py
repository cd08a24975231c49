"""Signing in, with a second factor where the person has one, and out."""

from __future__ import annotations

import asyncio
from datetime import timedelta
from typing import Annotated

from anyio import CapacityLimiter, to_thread
from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.store import accounts, attempts, audit, keys, people, second_factor
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import User
from uchiwa.web.account.passkey_routes import site_for
from uchiwa.web.pages import render
from uchiwa.web.requests import session
from uchiwa.web.requests.address import address_of
from uchiwa.web.requests.browser import browser_of
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.routing import router as new_router

router = new_router()
_AT_ONCE = 2
_MOST_WAITING = 64
CODES, CODE_WINDOW = 8, timedelta(minutes=10)
"""So many codes can be tried in a session, and for a person from a network address, in that time."""
CODES_OF_A_PERSON = 40
"""After so many for a person from anywhere, a generator's code counts only on a device on which they signed in before."""
_TOO_MANY_CODES = "Too many codes. Wait ten minutes, then try again, or sign in with a passkey."
_GUESSED = (
    "Somebody who knows your password is guessing codes. Use a recovery code, a passkey, or a device on which you signed in "
    "before; and set a new password."
)


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
    return _form(request, 200, "", None)


def _form(request: Request, status: int, email: str, problem: str | None) -> Response:
    with unit_of_work():
        nobody = accounts.nobody_yet()
    return render(
        request,
        "sign_in.html",
        status=status,
        email=email,
        problem=problem,
        nobody=nobody,
        passkeys=site_for(request) is not None,
    )


@router.post("/sign-in", dependencies=[FromOurForm])
async def sign_in(
    request: Request, email: Annotated[str, Form(max_length=190)], password: Annotated[str, Form(max_length=200)]
) -> Response:
    """Check and begin a session."""
    browser, address, hashing = browser_of(request.scope), address_of(request.scope), _hashing_here()

    async def again(status: int, problem: str) -> Response:
        return await to_thread.run_sync(_form, request, status, email, problem)

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
        await to_thread.run_sync(_note_refusal, email)
        return await again(401, "This address and password do not belong together.")
    if user.second_factor:
        await to_thread.run_sync(lambda: session.begin(request, user, half=True))
        return RedirectResponse("/sign-in/code", 303)
    await to_thread.run_sync(_begin, request, user)
    return RedirectResponse("/", 303)


@run_again
def _note_refusal(email: str) -> None:
    with unit_of_work():
        user = people.with_address(email)
        if user is not None:
            audit.note("sign-in-refused", shop_id=user.shop_id, who=user.email)


@run_again
def _begin(request: Request, user: User) -> None:
    with unit_of_work():
        audit.note("signed-in", shop_id=user.shop_id, user=user)
    session.begin(request, user)


@router.get("/sign-in/code")
def code_form(request: Request) -> Response:
    """The page that asks for the second factor."""
    if session.half_person(request) is None:
        return RedirectResponse("/sign-in", 303)
    return render(request, "sign_in_code.html", problem=None)


@router.post("/sign-in/code", dependencies=[FromOurForm])
def code(request: Request, code: Annotated[str, Form(max_length=40)] = "") -> Response:
    """Take a code of the generator, or a recovery code."""
    user = session.half_person(request)
    if user is None:
        return RedirectResponse("/sign-in", 303)
    browser = browser_of(request.scope)
    marks = [
        attempts.mark("code", browser.token),
        attempts.mark("code", f"{address_of(request.scope)} {user.id}"),
        attempts.mark("code", str(user.id)),
    ]
    by_session, by_place, by_person = (attempts.count(mark, CODE_WINDOW) for mark in marks)
    if max(by_session, by_place) > CODES:
        return render(request, "sign_in_code.html", status=429, problem=_TOO_MANY_CODES)
    # Strangers who know the password guess from many places: a device of the person's own is still let in, and so is
    # whoever has a recovery code or a passkey; nobody locks the person out.
    guessed = by_person > CODES_OF_A_PERSON and not browser.known_device(user.email)
    try:
        with unit_of_work():
            by_generator = not guessed and second_factor.accept(user, code)
            recovered = not by_generator and second_factor.accept_recovery(user, code)
            if recovered:
                audit.note("recovery-used", shop_id=user.shop_id, user=user)
    except keys.NoKeyError:
        problem = "The installation's secret was changed, and your generator's with it. Use a recovery code, or ask the owner."
        return render(request, "sign_in_code.html", status=401, problem=problem)
    if not by_generator and not recovered and guessed:
        return render(request, "sign_in_code.html", status=429, problem=_GUESSED)
    if not by_generator and not recovered:
        problem = "This code is not right, or was used already. Wait for the next one."
        return render(request, "sign_in_code.html", status=401, problem=problem)
    for mark in marks:
        attempts.uncount(mark)
    _begin(request, user)
    return RedirectResponse("/", 303)


@router.post("/sign-out", dependencies=[FromOurForm])
def sign_out(request: Request) -> Response:
    """End the session."""
    user = session.person_of(browser_of(request.scope))
    if user is not None:
        with unit_of_work():
            audit.note("signed-out", shop_id=user.shop_id, user=user)
    session.end(request)
    return RedirectResponse("/sign-in", 303)
