"""The demo's stand-in mailbox: what would have gone out by mail, to read. Not there outside the demo."""

from __future__ import annotations

import re

from fastapi import HTTPException, Request
from fastapi.responses import Response
from markupsafe import Markup, escape

from uchiwa.settings import read_settings
from uchiwa.standin.mailbox import KeptMail, kept_mails
from uchiwa.web.pages import render
from uchiwa.web.requests.session import Person
from uchiwa.web.routing import router as new_router

router = new_router()
FOLDER = "mailbox"
_LATEST = 60
_ADDRESS = re.compile(r"https?://[^\s<>\"]{1,2000}")


@router.get("/mailbox")
def mailbox(request: Request, _user: Person, show: str = "") -> Response:
    """The mails, newest first; one of them is shown as its reader sees it."""
    if not request.app.state.demo:
        raise HTTPException(404)
    mails = kept_mails(read_settings().home.resolve() / FOLDER)[:_LATEST]
    shown = next((mail for mail in mails if mail.key == show), mails[0] if mails else None)
    return render(
        request, "mailbox.html", _user, mails=mails, shown=shown, text=_with_links(shown) if shown is not None else ""
    )


def _with_links(mail: KeptMail) -> Markup:
    """Its text, with addresses to follow."""
    found, last = Markup(), 0
    for match in _ADDRESS.finditer(mail.text):
        found += escape(mail.text[last : match.start()]) + Markup('<a href="{0}">{0}</a>').format(match[0])
        last = match.end()
    return found + escape(mail.text[last:])
