"""The sheets of the Spark station over a table."""

from __future__ import annotations

from fastapi.responses import RedirectResponse, Response

from uchiwa.core.rounds.progress import Station
from uchiwa.web.proposal_sheets.routes import add_sheet
from uchiwa.web.round_context import RoundPage, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.spark.page import BASE, SPARK
from uchiwa.web.stations.spark.sheets import TABLE_SHEETS

router = new_router()


@router.get(BASE)
@in_round(Station.SPARK)
def spark(page: RoundPage) -> Response:
    """To the first sheet."""
    return RedirectResponse(f"{page.path}/spark/knock", 303)


for sheet in TABLE_SHEETS.values():
    add_sheet(router, SPARK, sheet)
