"""The pulls sheet: runs over engine speed, what was changed for each, and what chance explains."""

from __future__ import annotations

import json
from typing import Annotated, Any

from fastapi import Form, HTTPException, Request
from fastapi.responses import Response

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.policy_file import policy_from
from uchiwa.core.pulls.overlay import PullView, compare
from uchiwa.core.pulls.repeat import repeatability
from uchiwa.core.pulls.runs import bands_of, even_bands
from uchiwa.core.pulls.weather import trusted
from uchiwa.core.rounds.progress import Station
from uchiwa.services import spark as work
from uchiwa.services import table_proposals
from uchiwa.store import pull_notes
from uchiwa.web.pages import render
from uchiwa.web.proposal_sheets.state import Fields, SheetState, back, with_form
from uchiwa.web.requests.fragment import is_fragment
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.spark.page import BASE, SPARK
from uchiwa.web.stations.spark.pull_picture import LOOKS, picture, readings

router = new_router()
_HERE = BASE + "/pulls"
_KEYS = ("window", "slope_percent", "low", "high")


def _values(page: RoundPage) -> dict[str, Any]:
    rows = work.pull_rows(page.job, page.round)
    if not rows:
        raise BadInput(
            "no accepted log or dyno file holds a full-load pull",
            advice="send a dyno file with engine speed and torque, or a road log of one long pull in a high gear",
        )
    view = table_proposals.kept(page.round, "pulls", PullView)
    shown = [row for row in rows if not row.hidden]
    pulls = [row.pull for row in shown]
    drawn = work.overlaid(shown, view)
    car = CarFile.loads(page.job.car.file)
    repeats = repeatability(bands_of(pulls, even_bands(pulls), car.displacement))
    compared = compare(pulls, drawn, repeats, view.low, view.high)
    drawing = picture(drawn, view.low, view.high) if shown else None
    names = [row.note.note if row.note is not None and row.note.note else row.log.name for row in shown]
    return {
        "page": page,
        **SPARK.values("pulls"),
        "rows": [*shown, *(row for row in rows if row.hidden)],
        "looks": {row.key: (rows.index(row) % LOOKS) for row in rows},
        "order": {row.key: number for number, row in enumerate(shown, 1)},
        "compared": {row.key: comparison for row, comparison in zip(shown, compared, strict=True)},
        "shown": shown,
        "drawing": drawing,
        "readings": json.dumps(readings(drawn, names, drawing)).replace("<", "\\u003c")
        if drawing is not None
        else "{}",
        "repeats": repeats,
        "alike": [[row + 1 for row in group] for group in repeats.groups],
        "view": view,
        "reference": next((place for place, comparison in enumerate(compared, 1) if comparison.reference), 0),
        "common": [one for one in (pulls[0].notes if pulls else ()) if all(one in pull.notes for pull in pulls)],
        "mass_known": car.mass is not None,
        "on_road": any(row.pull.source.value != "dyno" for row in rows),
        "trusted": trusted,
    }


def _page(request: Request, page: RoundPage) -> Response:
    try:
        values = _values(page)
    except BadInput as error:
        return SPARK.empty(request, page, "pulls", error)
    return render(request, "_pulls.html" if is_fragment(request) else "pulls.html", page.user, **values)


@router.get(_HERE)
@in_round(Station.SPARK)
def pulls(page: RoundPage) -> Response:
    """The sheet and its margin."""
    return _page(page.request, page)


def _again(request: Request, page: RoundPage) -> Response:
    return _page(request, page.reloaded()) if is_fragment(request) else back(page, "spark/pulls", SheetState())


@router.post(_HERE + "/view", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def view(page: RoundPage, form: Fields) -> Response:
    """Change how pulls are looked at."""
    old = table_proposals.kept(page.round, "pulls", PullView).model_dump(mode="json")
    told = with_form(old, form, _KEYS)
    if "corrected" in form:
        told["corrected"] = form["corrected"] == "yes"
    table_proposals.keep(page.round, "pulls", policy_from(PullView, told, "view"))
    return _again(page.request, page)


@router.post(_HERE + "/note", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def note(
    page: RoundPage,
    pull: Annotated[str, Form()],
    note: Annotated[str | None, Form(max_length=300)] = None,
    hidden: Annotated[bool | None, Form()] = None,
    move: Annotated[int, Form()] = 0,
) -> Response:
    """Note what was changed for a pull, show or hide it, or move it among the others."""
    rows = work.pull_rows(page.job, page.round)
    at = next((place for place, row in enumerate(rows) if row.key == pull), None)
    if at is None:
        raise HTTPException(404)
    row = rows[at]
    pull_notes.keep((row.log.id, row.pull.number), note=note, hidden=hidden)
    to = at + move
    if move and 0 <= to < len(rows):
        rows[at], rows[to] = rows[to], rows[at]
        for place, pull_row in enumerate(rows):
            pull_notes.keep((pull_row.log.id, pull_row.pull.number), place=float(place))
    if is_fragment(page.request) and hidden is None and not move:
        return Response(status_code=204)  # words alone change nothing that is drawn
    return _again(page.request, page)
