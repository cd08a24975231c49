"""The shop's settings: its name, reminders and links, and its own words in mails. The owner's page."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from fastapi import Depends, Form, HTTPException, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.services.mail.composing import previewed, words_of
from uchiwa.services.mail.kinds import KINDS, must_be_words
from uchiwa.store import audit, mails, shops
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Owner
from uchiwa.web.routing import router as new_router

router = new_router()
_HERE = "/shop/settings"
_TO_CUSTOMERS = [kind for kind in KINDS.values() if kind.to == "customer"]


def _page(
    request: Request, user: User, *, problem: str = "", kind: str = "brief", typed: tuple[str, str] | None = None
) -> Response:
    chosen = KINDS.get(kind)
    if chosen is None or chosen.to != "customer":
        raise HTTPException(404)
    with unit_of_work():
        room = shops.room_of(user.shop)
    subject, words = typed or words_of(user.shop, chosen)
    return render(
        request,
        "shop_settings.html",
        user,
        status=400 if problem else 200,
        problem=problem,
        kinds=_TO_CUSTOMERS,
        chosen=chosen,
        subject=subject,
        words=words,
        preview=previewed(subject, words, user),
        own=(subject, words) != (chosen.subject, chosen.words),
        room=room,
        mail=mails.enabled(),
    )


@router.get(_HERE)
def page(request: Request, user: Owner, kind: str = "brief") -> Response:
    """The page; one kind of mail is shown with its words."""
    return _page(request, user, kind=kind)


@router.post(_HERE, dependencies=[FromOurForm])
def keep(
    request: Request,
    user: Owner,
    name: Annotated[str, Form(max_length=120)] = "",
    remind_days: Annotated[int, Form()] = 7,
    link_days: Annotated[int, Form()] = 180,
) -> Response:
    """Keep name, reminders and how long links last."""
    try:
        with unit_of_work():
            shops.rename(user.shop, name)
            shops.set_days(user.shop, remind_days, link_days)
            audit.note("shop-settings", shop_id=user.shop_id, user=user)
    except BadInput as error:
        return _page(request, user, problem=str(error))
    say(request, "The shop's settings are saved.")
    return RedirectResponse(_HERE, 303)


@dataclass(frozen=True)
class OwnWords:
    """The form of a shop's own words for a kind of mail."""

    kind: Annotated[str, Form(max_length=24)]
    subject: Annotated[str, Form(max_length=400)] = ""
    words: Annotated[str, Form(max_length=8000)] = ""
    usual: Annotated[bool, Form()] = False


@router.post(_HERE + "/words", dependencies=[FromOurForm])
def words(request: Request, user: Owner, form: Annotated[OwnWords, Depends()]) -> Response:
    """Keep the shop's own words for a kind of mail, or have the usual ones again."""
    subject, usual, chosen = form.subject, form.usual, KINDS.get(form.kind)
    if chosen is None or chosen.to != "customer":
        raise HTTPException(404)
    plain = form.words.replace("\r\n", "\n").strip()
    try:
        if not usual:
            must_be_words(chosen, subject, plain)
        with unit_of_work():
            shops.set_words(user.shop, chosen.code, "" if usual else subject.strip(), "" if usual else plain)
            audit.note("shop-settings", shop_id=user.shop_id, user=user, subject=f"mail: {chosen.title}")
    except BadInput as error:
        return _page(request, user, problem=str(error), kind=chosen.code, typed=(subject, plain))
    say(request, "The usual words hold again." if usual else "Mails of this kind carry your words from now on.")
    return RedirectResponse(f"{_HERE}?kind={chosen.code}", 303)
