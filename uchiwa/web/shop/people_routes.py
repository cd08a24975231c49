"""The people of a shop: who they are, what they may do; inviting them and locking them out. The owner's page."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services import joining
from uchiwa.store import audit, mails, one_time_links, people
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.store.roles import ROLES, TUNER
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import Confirmed, FromOurForm, Owner
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/shop/people"


def _page(
    request: Request, user: User, *, problem: str = "", email: str = "", fresh: tuple[str, str] | None = None
) -> Response:
    with unit_of_work():
        everybody = people.of_shop(user.shop_id)
        invited = one_time_links.invitations(user.shop_id)
    return render(
        request,
        "people.html",
        user,
        status=400 if problem else 200,
        problem=problem,
        email=email,
        fresh=fresh,
        everybody=everybody,
        invited=invited,
        roles=ROLES,
        usual=TUNER,
        mail=mails.enabled(),
    )


def _address(request: Request, kind: str, token: str) -> str:
    return f"{request.app.state.settings.public_address}/{kind}/{token}"


@router.get(_HERE)
def page(request: Request, user: Owner) -> Response:
    """The page."""
    return _page(request, user)


@router.post(_HERE + "/invite", dependencies=[FromOurForm, Confirmed])
def invite(
    request: Request,
    user: Owner,
    email: Annotated[str, Form(max_length=190)] = "",
    role: Annotated[str, Form(max_length=10)] = TUNER,
) -> Response:
    """Invite somebody; their address is shown once, and a mail carries it too."""
    try:
        with unit_of_work():
            link = joining.invite(user.shop, user, email, role)
            token = one_time_links.token_of(link)
    except BadInput as error:
        return _page(request, user, problem=str(error), email=email)
    return _page(request, user, fresh=(f"{link.email} joins at", _address(request, link.kind, token)))


@router.post(_HERE + "/withdraw", dependencies=[FromOurForm])
def withdraw(request: Request, user: Owner, invitation: Annotated[int, Form()]) -> Response:
    """End an invitation."""
    with unit_of_work():
        joining.withdraw_invitation(user.shop_id, user, invitation)
    say(request, "The invitation does not work any more.")
    return RedirectResponse(_HERE, 303)


@router.post(_HERE + "/{person_id}/role", dependencies=[FromOurForm, Confirmed])
def role(request: Request, user: Owner, person_id: int, role: Annotated[str, Form(max_length=10)]) -> Response:
    """Let a person do more or less, from their next page on."""
    with unit_of_work():
        person = people.find(user.shop_id, person_id)
        people.set_role(person, role)
        audit.note("role", shop_id=user.shop_id, user=user, subject=f"{person.name} to {role}")
        joining.tell_of(person, "role", f"Your role in the shop is {role} now")
    say(request, f"{person.name} is {role} now, who {ROLES[role]}.")
    return RedirectResponse(_HERE, 303)


@router.post(_HERE + "/{person_id}/let-in", dependencies=[FromOurForm, Confirmed])
def let_in(request: Request, user: Owner, person_id: int, open: Annotated[bool, Form()]) -> Response:
    """Lock a person out on every device, or let them in again."""
    with unit_of_work():
        person = people.find(user.shop_id, person_id)
        (people.enable if open else people.disable)(person)
        audit.note("enabled" if open else "disabled", shop_id=user.shop_id, user=user, subject=person.name)
    words = (
        "can sign in again" if open else "is locked out, and signed out on every device; the jobs they had are nobody's"
    )
    say(request, f"{person.name} {words}.")
    return RedirectResponse(_HERE, 303)


@router.post(_HERE + "/{person_id}/password", dependencies=[FromOurForm, Confirmed])
def password(request: Request, user: Owner, person_id: int) -> Response:
    """An address at which a person sets a new password, for when no mail reaches them; shown once."""
    with unit_of_work():
        person = people.find(user.shop_id, person_id)
        link = joining.reset_link(person, user)
        token = one_time_links.token_of(link)
    return _page(
        request,
        user,
        fresh=(f"{person.name} sets a new password, within an hour, at", _address(request, link.kind, token)),
    )


@router.post(_HERE + "/{person_id}/erase", dependencies=[FromOurForm, Confirmed])
def erase(request: Request, user: Owner, person_id: int) -> Response:
    """Forget the name of a person who is locked out; what they did stays."""
    with unit_of_work():
        person = people.find(user.shop_id, person_id)
        people.erase(person)
        audit.note("erased", shop_id=user.shop_id, user=user, subject="a former colleague")
    say(request, "Their name is forgotten; what they did stays as a former colleague's.")
    return RedirectResponse(_HERE, 303)


@router.get("/shop/audit")
def audit_log(request: Request, user: Owner, before: int | None = None) -> Response:
    """The audit log, newest first, a page at a time."""
    with unit_of_work():
        entries = audit.of_shop(user.shop_id, before, audit.PAGE + 1)
    more = entries[audit.PAGE - 1].id if len(entries) > audit.PAGE else None
    return render(
        request, "audit.html", user, entries=entries[: audit.PAGE], words=audit.KINDS, more=more, before=before
    )
