"""Signing in and out."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.store import accounts
from uchiwa.store.database import unit_of_work
from uchiwa.web import session
from uchiwa.web.pages import render
from uchiwa.web.session import FromOurForm

router = APIRouter()


@router.get("/sign-in")
def form(request: Request) -> Response:
    """The sign-in page."""
    return render(request, "sign_in.html", email="", problem=None)


@router.post("/sign-in", dependencies=[FromOurForm])
def sign_in(
    request: Request, email: Annotated[str, Form(max_length=190)], password: Annotated[str, Form(max_length=200)]
) -> Response:
    """Check and begin a session."""
    address = request.client.host if request.client else "unknown"
    try:
        with unit_of_work():
            user = accounts.sign_in(email, password, address)
    except accounts.TooManyAttemptsError:
        problem = "Too many tries. Wait ten minutes, then try again."
        return render(request, "sign_in.html", status=429, email=email, problem=problem)
    if user is None:
        problem = "This address and password do not belong together."
        return render(request, "sign_in.html", status=401, email=email, problem=problem)
    session.begin(request, user)
    return RedirectResponse("/", 303)


@router.post("/sign-out", dependencies=[FromOurForm])
def sign_out(request: Request) -> Response:
    """End the session."""
    session.end(request)
    return RedirectResponse("/sign-in", 303)
