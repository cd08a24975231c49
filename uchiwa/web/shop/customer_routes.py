"""Customers of the shop: what there is of each, given out or forgotten on request. The owner's page."""

from __future__ import annotations

from typing import IO, Annotated

from fastapi import Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services import customer_data, log_cache
from uchiwa.store import audit, customers
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Customer, User
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Owner
from uchiwa.web.requests.streamed import streamed
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/shop/customers"


def _found(user: User, customer_id: int) -> Customer:
    customer = customers.find(user.shop_id, customer_id)
    if customer is None:
        raise HTTPException(404)
    return customer


@router.get(_HERE)
def page(request: Request, user: Owner, q: str = "", skip: int = 0, show: int | None = None) -> Response:
    """The list; one of them is shown in the margin."""
    return _page(request, user, (q[:100], max(0, min(skip, 1_000_000))), show=show)


def _page(
    request: Request, user: User, looked: tuple[str, int] = ("", 0), *, show: int | None = None, problem: str = ""
) -> Response:
    q, skip = looked
    with unit_of_work():
        found = customers.of_shop(user.shop_id, q, skip)
        shown = customers.find(user.shop_id, show) if show is not None else None
        jobs = customers.jobs_of(shown) if shown is not None else []
    return render(
        request,
        "customers.html",
        user,
        status=400 if problem else 200,
        problem=problem,
        q=q,
        skip=skip,
        rows=found[: customers.PAGE],
        more=skip + customers.PAGE if len(found) > customers.PAGE else None,
        shown=shown,
        jobs=jobs,
    )


@router.get(_HERE + "/{customer_id}/data.zip")
def data(user: Owner, customer_id: int) -> Response:
    """Everything there is of a customer, to be given to them."""
    with unit_of_work():
        customer = _found(user, customer_id)
        audit.note("customer-exported", shop_id=user.shop_id, user=user, subject=f"customer {customer.id}")

    def write(file: IO[bytes]) -> None:
        with unit_of_work():
            customer_data.export(customer, file)

    return streamed(write, f"customer-{customer_id}.zip", "application/zip")


@router.post(_HERE + "/{customer_id}/erase", dependencies=[FromOurForm])
def erase(
    request: Request, user: Owner, customer_id: int, confirm: Annotated[str, Form(max_length=200)] = ""
) -> Response:
    """Forget a customer, once their name was typed."""
    try:
        with unit_of_work():
            customer = _found(user, customer_id)
            number = customers.erase(customer, confirm)
            audit.note("customer-erased", shop_id=user.shop_id, user=user, subject=f"customer {customer_id}")
    except BadInput as error:
        return _page(request, user, show=customer_id, problem=str(error))
    log_cache.forget()
    say(
        request,
        f"Erased, with {number} job{'' if number == 1 else 's'}. Backups from before still have them, until they are replaced.",
    )
    return RedirectResponse(_HERE, 303)
