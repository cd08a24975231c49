"""The signal clamp, a sheet of Fuel for cars that have one."""

from __future__ import annotations

from uchiwa.core.rounds.progress import Station
from uchiwa.web.proposal_sheets.routes import add_sheet
from uchiwa.web.proposal_sheets.sheet import SheetStation, Tab
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.fuel.clamp_sheet import CLAMP_SHEET

router = new_router()
FUEL = SheetStation(
    Station.FUEL,
    (
        Tab("", "Airflow model"),
        Tab(
            "clamp",
            "Signal clamp",
            "What the airflow signal reached at full load before the car had boost, and the table that lets out no more "
            "than that and a margin: from full-load pulls with the raw signal and the intake pressure.",
            "The pulls at this speed",
        ),
    ),
    style="idle.css",
)
add_sheet(router, FUEL, CLAMP_SHEET)
