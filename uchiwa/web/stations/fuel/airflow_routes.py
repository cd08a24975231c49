"""Airflow side by side: meter, speed density and fuel."""

from __future__ import annotations

from fastapi.responses import Response

from uchiwa.core.airflow.crosscheck import TITLES, largest_gap
from uchiwa.core.errors import BadInput
from uchiwa.core.rounds.progress import Station
from uchiwa.services.airflow import airflow_of
from uchiwa.services.fuel import fuel_tables
from uchiwa.store import calibrations, revisions
from uchiwa.web.doubts import doubt_values
from uchiwa.web.pages import render
from uchiwa.web.round_context import RoundPage, in_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.fuel.flow_picture import flow_picture

router = new_router()
_STRIPS = "engine_speed;airflow,speed_density_air,fuel_based_air;throttle_position"


@router.get("/jobs/{job_id}/rounds/{number}/airflow")
@in_round(Station.FUEL)
def airflow(page: RoundPage) -> Response:
    """The three ways over airflow, and which one stands apart."""
    try:
        check, logs = airflow_of(page.job, page.round)
    except BadInput as error:
        asked = doubt_values(page.round, error, "airflow")
        return render(page.request, "fuel_empty.html", page.user, page=page, problem=str(error), policy=None, **asked)
    revision = revisions.running(page.job, page.round)
    tables = fuel_tables(calibrations.content(revision.calibration)) if revision is not None else ()
    trusts = {"volumetric_efficiency": ("meter", "the meter"), "maf_curve": ("speed_density", "speed density")}
    return render(
        page.request,
        "airflow.html",
        page.user,
        page=page,
        check=check,
        titles=TITLES,
        gap=largest_gap(check),
        picture=flow_picture(check),
        logs=logs,
        offers=[(table, *trusts[table.role]) for table in tables if trusts[table.role][0] in check.ways],
        strips=_STRIPS,
    )
