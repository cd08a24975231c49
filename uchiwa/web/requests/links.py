"""What the secret link of a customer's page opens, looked up once for a request."""

from __future__ import annotations

import re
from typing import cast

from starlette.types import Scope

from uchiwa.store import jobs, links
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.links import TooManyGuessesError
from uchiwa.store.models import Job, Round
from uchiwa.web.requests.address import address_of
from uchiwa.web.requests.browser import browser_of

LINK = re.compile(r"/c/(?P<token>[^/]{1,200})(?:/|$)")
__all__ = ["LINK", "TooManyGuessesError", "open_link"]


@run_again
def _found(token: str) -> tuple[Job, Round] | None:
    with unit_of_work():
        job = links.open_job(token)
        return (job, jobs.rounds(job)[-1]) if job is not None else None


def open_link(scope: Scope, token: str) -> tuple[Job, Round] | None:
    """The job of a link and its round under work; None if it is unknown or was ended.

    Raises:
        TooManyGuessesError: it is unknown, and too many unknown ones came from this network address of late.
    """
    browser = browser_of(scope)
    if browser.opened is None:
        browser.opened = _found(token)
        if browser.opened is None:
            links.count_guess(address_of(scope))
    return cast("tuple[Job, Round] | None", browser.opened)
