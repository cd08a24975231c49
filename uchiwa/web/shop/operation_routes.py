"""The operator's page: queue, what has failed with *try again*, room by shop, and versions."""

from __future__ import annotations

import platform
from typing import Annotated, Any

from fastapi import Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.store import import_results, mails, operation, schema, shops
from uchiwa.store.database import unit_of_work
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Operator
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/operation"
_GIGABYTE = 1_000_000_000
_TABLES = 8


@router.get(_HERE)
def page(request: Request, user: Operator) -> Response:
    """The page."""
    applied = schema.applied_migrations()
    with unit_of_work():
        values: dict[str, Any] = {
            "waiting": [
                ("logs to be read", operation.waiting_logs()),
                ("rounds to be looked at", operation.waiting_rounds()),
                ("mails to be sent", operation.waiting_mails()),
            ],
            "under_way": operation.under_way(),
            "refused": operation.refused_logs(),
            "failed_mails": mails.failed(),
            "mail_counts": mails.counts(),
            "mail": mails.enabled(),
            "workers": operation.workers(),
            "sizes": operation.sizes(),
            "largest_jobs": shops.sizes_of_jobs(user.shop_id, 5),
            "tables": operation.tables()[:_TABLES],
            "database": operation.server_version(),
        }
    return render(request, "operation.html", user, python=platform.python_version(), schema=applied[-1], **values)


@router.post(_HERE + "/logs/{log_id}/again", dependencies=[FromOurForm])
def log_again(request: Request, _user: Operator, log_id: int) -> Response:
    """Have a file that could not be read tried once more."""
    with unit_of_work():
        log = operation.refused_log(log_id)
        if log is None:
            raise HTTPException(404)
        import_results.read_again([log])
    say(request, "It is read once more.")
    return RedirectResponse(_HERE, 303)


@router.post(_HERE + "/mails/{mail_id}/again", dependencies=[FromOurForm])
def mail_again(request: Request, _user: Operator, mail_id: int) -> Response:
    """Have a mail that could not be sent tried once more."""
    with unit_of_work():
        if not mails.again(mail_id):
            raise HTTPException(404)
    say(request, "It is sent once more.")
    return RedirectResponse(_HERE, 303)


@router.post(_HERE + "/shops/{shop_id}/room", dependencies=[FromOurForm])
def room(
    request: Request, _user: Operator, shop_id: int, gigabytes: Annotated[str, Form(max_length=12)] = ""
) -> Response:
    """Give a shop a figure of its own for its raw logs, or the usual one."""
    with unit_of_work():
        shops.set_room(shop_id, gigabytes)
    say(request, "The shop's room is changed.")
    return RedirectResponse(_HERE, 303)
