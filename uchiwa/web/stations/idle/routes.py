"""The Idle station: idle airflow, warm-up, and how well the car idles."""

from __future__ import annotations

from fastapi.responses import RedirectResponse, Response

from uchiwa.core.errors import BadInput
from uchiwa.core.rounds.progress import Station
from uchiwa.services.idle import quality_of
from uchiwa.web.pages import render
from uchiwa.web.proposal_sheets.routes import add_sheet
from uchiwa.web.round_context import RoundPage, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.idle.page import BASE, IDLE
from uchiwa.web.stations.idle.quality_table import quality_table
from uchiwa.web.stations.idle.sheets import AIR, WARM

router = new_router()


@router.get(BASE)
@in_round(Station.IDLE)
def idle(page: RoundPage) -> Response:
    """To the first sheet."""
    return RedirectResponse(f"{page.path}/idle/air", 303)


@router.get(BASE + "/quality")
@in_round(Station.IDLE)
def quality(page: RoundPage) -> Response:
    """How the car idles, from round to round."""
    rounds = [round_quality for round_quality in quality_of(page.job) if round_quality.number <= page.round.number]
    if not rounds:
        problem = BadInput(
            "no accepted log holds an idle with its coolant temperature",
            advice="record one from cold to warm, feet off, standing",
        )
        return IDLE.empty(page.request, page, "quality", problem)
    return render(
        page.request, "idle_quality.html", page.user, page=page, table=quality_table(rounds), **IDLE.values("quality")
    )


for sheet in (AIR, WARM):
    add_sheet(router, IDLE, sheet)
