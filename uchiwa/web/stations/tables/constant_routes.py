"""The constants of a draft."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, Request
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.tables.editing.transfer import set_constant
from uchiwa.core.typed_number import typed_number
from uchiwa.services import tables as work
from uchiwa.store import draft_steps
from uchiwa.web.pages import render, say
from uchiwa.web.requests.session import FromOurForm, Person
from uchiwa.web.round_context import RoundPage, in_open_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.tables.list import listed
from uchiwa.web.stations.tables.table_view import ADDRESS, CONSTANTS, step_sentence

router = new_router()


def constants_page(request: Request, user: Person, page: RoundPage) -> Response:
    draft, base, content, frozen = work.contents(page.job, page.round)
    old = {one.id: one.value for one in base.constants}
    found = draft_steps.steps(page.job)
    return render(
        request,
        "constants.html",
        user,
        page=page,
        rows=[(one, old.get(one.id)) for one in content.constants],
        with_roles=any(one.role not in ("", one.id) for one in content.constants),
        groups=listed(content, base),
        frozen=frozen,
        version=draft.version,
        undo=step_sentence(draft_steps.undoable(found)),
        redo=step_sentence(draft_steps.redoable(found)),
    )


@router.post(ADDRESS + "/constant", dependencies=[FromOurForm])
@in_open_round(None)
def constant(
    page: RoundPage,
    constant: Annotated[str, Form(max_length=64)],
    value: Annotated[str, Form(max_length=40)],
    version: Annotated[int, Form()],
    why: Annotated[str, Form(max_length=200)] = "",
) -> Response:
    """Set a constant of the draft."""
    wanted = typed_number(value, constant)
    sentence = f"Constant {constant} set to {wanted:g}"
    told: dict[str, object] = {"constant": constant, "value": wanted}
    work.change_content(
        page.acting(version, why), lambda calibration: set_constant(calibration, constant, wanted), sentence, told
    )
    say(page.request, f"{sentence}.")
    return RedirectResponse(f"{page.path}/tables?table={CONSTANTS}", 303)
