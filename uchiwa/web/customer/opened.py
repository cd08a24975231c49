"""What a customer's secret link opens, and how its answers go out."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Depends, HTTPException, Request
from fastapi.responses import Response

from uchiwa.services.languages import words_of
from uchiwa.store import uploads
from uchiwa.store.models import Job, Round
from uchiwa.web.requests.links import TooManyGuessesError, open_link


def opened(request: Request, token: str) -> tuple[Job, Round]:
    """The job of a link and its round under work.

    Raises:
        HTTPException: 404 if the link is unknown or was ended; 429 after too many unknown ones.
    """
    try:
        found = open_link(request.scope, token)
    except TooManyGuessesError:
        raise HTTPException(429, "Too many unknown links. Wait ten minutes, then try again.") from None
    if found is None:
        raise HTTPException(404)
    return found


Opened = Annotated[tuple[Job, Round], Depends(opened)]


def spoken(job: Job) -> dict[str, Any]:
    """What a customer's template speaks with: `_` for texts, `since` and `date` for moments, and the language."""
    words = words_of(job.car.customer.language)
    return {
        "_": words.say,
        "since": words.ago,
        "date": words.date,
        "language": words.language,
        "why_refused": lambda log: words.capital(words.say(uploads.why_refused(log))),
    }


def private(answer: Response) -> Response:
    """An answer whose address is not passed on, and that no search engine keeps."""
    answer.headers["referrer-policy"] = "no-referrer"
    answer.headers["x-robots-tag"] = "noindex"
    return answer
