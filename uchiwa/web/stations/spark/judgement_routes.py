"""What a person says at the Spark station: what knock is, and how much worse a fuel is."""

from __future__ import annotations

from typing import Annotated

from fastapi import Form, HTTPException
from fastapi.responses import RedirectResponse, Response

from uchiwa.core.knock.judgement import Verdict
from uchiwa.core.proposals.fuel_grade.proposal import start_lower
from uchiwa.core.rounds.progress import Station
from uchiwa.services import spark as work
from uchiwa.services import table_proposals
from uchiwa.store import knock_decisions
from uchiwa.web.grid.cells import parse_cells
from uchiwa.web.pages import say
from uchiwa.web.proposal_sheets.state import Seen, back
from uchiwa.web.requests.number import TypedNumber
from uchiwa.web.requests.session import FromOurForm
from uchiwa.web.round_context import RoundPage, in_open_round
from uchiwa.web.routing import router as new_router
from uchiwa.web.stations.spark.page import BASE

router = new_router()


@router.post(BASE + "/knock/decide", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def decide(
    page: RoundPage,
    cluster: Annotated[str, Form()],
    verdict: Annotated[Verdict, Form()],
    seen: Seen,
    reason: Annotated[str, Form(max_length=300)] = "",
) -> Response:
    """Say what a cluster is; its cells name it, so that a log that came meanwhile cannot turn one into another."""
    found = work.knock_work(page.job, page.round, seen.table)
    cells = set(parse_cells(cluster))
    one = next((one for one in found.proposal.clusters if set(one.cells) == cells), None)
    if one is None:
        raise HTTPException(409, "The knock has changed since you looked, for a log has come. Look again, then decide.")
    knock_decisions.decide(
        page.job, page.round, page.user, knock_decisions.Word(found.context.table.id, one, verdict, reason)
    )
    words = "left to the judgement" if verdict is Verdict.UNSURE else f"held to be {verdict.value}"
    say(page.request, f"Knock in {len(cells)} cells is {words}.")
    return back(page, "spark/knock", seen)


@router.post(BASE + "/torque/fuel-grade", dependencies=[FromOurForm])
@in_open_round(Station.SPARK)
def fuel_grade(
    page: RoundPage,
    version: Annotated[int, Form()],
    points: Annotated[TypedNumber, Form()],
    degrees: Annotated[TypedNumber, Form()],
    table: Annotated[str | None, Form()] = None,
) -> Response:
    """Start lower for a worse fuel, by the tuner's own degrees for each octane point."""
    at = table_proposals.context(page.job, page.round, work.SPARK_TABLE, table)
    after = start_lower(at.table, points, degrees, at.pins)
    inputs = {"points": points, "degrees_per_point": degrees, "policy": {}}
    event = table_proposals.take(
        page.acting(version),
        at,
        table_proposals.values_taken(at, after, None, table_proposals.StepOrigin("fuel grade")),
        inputs,
    )
    say(page.request, f"Taken into the draft. {event.sentence}.")
    return RedirectResponse(f"{page.path}/spark/torque", 303)
