"""What is said when something goes wrong: one sentence with the right status, as a page or for a script."""

from __future__ import annotations

import logging
from urllib.parse import quote, urlsplit

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, RedirectResponse, Response
from starlette.exceptions import HTTPException

from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.language import FormulaError
from uchiwa.store.conflict import ConflictError
from uchiwa.store.database import can_run_again, has_no_room
from uchiwa.store.draft_steps import CannotPutBackError
from uchiwa.store.drafts import StaleDraftError
from uchiwa.web.pages import render
from uchiwa.web.requests.address import within
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import ConfirmationNeededError, NotSignedInError, current_user

_log = logging.getLogger("uchiwa.web")
RETRY_AFTER_S = 600
"""So long whoever has tried too often waits; limits are counted over ten minutes."""


def wants_page(request: Request) -> bool:
    """Whether a person's browser asks, not a script of ours."""
    return not is_fragment(request)


def said(request: Request, status: int, title: str, text: str) -> Response:
    """A sentence as an answer."""
    if not wants_page(request):
        return JSONResponse({"said": text}, status)
    return render(request, "error.html", status=status, title=title, text=text, back=_page_before(request))


def _page_before(request: Request) -> str:
    """The page of ours that a form was sent from, to go back to; empty for anything else."""
    parts = urlsplit(request.headers.get("referer", ""))
    ours = parts.netloc == request.headers.get("host", "") and request.method == "POST"
    if not ours or not parts.path.startswith("/") or parts.path.startswith(("//", "/\\")):
        return ""
    return f"{parts.path}?{parts.query}" if parts.query else parts.path


async def _bad_input(request: Request, error: Exception) -> Response:
    if isinstance(error, FormulaError) and not wants_page(request):
        place = {"what": error.what, "position": error.position, "length": error.length}
        return JSONResponse({"said": str(error)} | place, 400)
    return said(request, 400, "That cannot be used", str(error))


async def _not_signed_in(request: Request, _error: Exception) -> Response:
    return not_signed_in(request)


def not_signed_in(request: Request) -> Response:
    """To the sign-in page."""
    if not wants_page(request):
        return JSONResponse({"said": "You are signed out. Reload the page to sign in."}, 401)
    return RedirectResponse("/sign-in", 303)


def _confirmation_needed(request: Request, _error: Exception) -> Response:
    if not wants_page(request):
        return JSONResponse({"said": "This changes who has access: reload the page, and give your password."}, 403)
    back = _page_before(request) or "/account"
    return render(request, "confirm.html", current_user(request), status=403, problem="", back=back)


async def _stale(request: Request, error: Exception) -> Response:
    since = error.since if isinstance(error, StaleDraftError) else ()
    what = f" What was done meanwhile: {'; '.join(since[-5:])}." if since else ""
    return said(
        request,
        409,
        "The draft has changed",
        "Somebody, perhaps you in another window, changed this draft after you opened the page. Nothing was "
        f"overwritten: reload, and look at it as it is now.{what}",
    )


async def _conflict(request: Request, error: Exception) -> Response:
    return said(request, 409, "Somebody was quicker", str(error))


async def _cannot_put_back(request: Request, _error: Exception) -> Response:
    return said(
        request,
        409,
        "This step stays",
        "There is no step to undo or to do again here: only the last step can be put back, and not over a temporary setup.",
    )


async def _http(request: Request, error: Exception) -> Response:
    status = error.status_code if isinstance(error, HTTPException) else 500
    path = request.scope["path"]
    if status == 404 and path.endswith("/") and request.method in ("GET", "HEAD") and within(path) == path != "/":
        query = request.scope["query_string"].decode("latin-1")
        return RedirectResponse(quote(path.rstrip("/")) + (f"?{query}" if query else ""), 307)
    detail = str(error.detail) if isinstance(error, HTTPException) else ""
    return refusal(request, status, detail)


def refusal(request: Request, status: int, detail: str = "") -> Response:
    """What an HTTP status means, in words."""
    words = {404: "There is no such page, or it is not yours.", 405: "This address does not take that."}
    answer = said(request, status, "Not here" if status == 404 else "That did not work", words.get(status, detail))
    if status == 429:
        answer.headers["retry-after"] = str(RETRY_AFTER_S)
    return answer


async def _wrong_form(request: Request, error: Exception) -> Response:
    fields = "the form"
    if isinstance(error, RequestValidationError):
        fields = ", ".join(sorted({str(one["loc"][-1]) for one in error.errors()}))
    return said(request, 400, "That cannot be used", f"Something is missing or malformed: {fields}.")


def failure(request: Request, error: Exception) -> Response:
    """Something that should not have happened: noted with its traceback, told without."""
    if can_run_again(error):
        _log.warning("the database could not be reached for %s: %s", request.url.path, error)
        return said(
            request,
            503,
            "The database does not answer",
            "It is being started again, and nothing of yours is lost. Try again in a moment.",
        )
    if has_no_room(error):
        _log.error("no room for %s: %s", request.url.path, error)
        return said(
            request,
            503,
            "There is no room left on the server",
            "What you sent could not be kept, and nothing else of yours is lost. Whoever looks after the server has to make room; "
            "then send it again.",
        )
    _log.error("failure at %s", request.url.path, exc_info=error)
    return said(
        request,
        503,
        "Something broke on our side",
        f"It is noted in the server's log as {request.state.request_id}, and nothing of yours is lost. Try again in a moment.",
    )


def add_handlers(app: FastAPI) -> None:
    """Have the application answer all of these."""
    app.add_exception_handler(BadInput, _bad_input)
    app.add_exception_handler(NotSignedInError, _not_signed_in)
    app.add_exception_handler(ConfirmationNeededError, _confirmation_needed)
    app.add_exception_handler(StaleDraftError, _stale)
    app.add_exception_handler(ConflictError, _conflict)
    app.add_exception_handler(CannotPutBackError, _cannot_put_back)
    app.add_exception_handler(HTTPException, _http)
    app.add_exception_handler(RequestValidationError, _wrong_form)
