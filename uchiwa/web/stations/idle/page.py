"""The Idle station and its sheets."""

from __future__ import annotations

from uchiwa.core.rounds.progress import Station
from uchiwa.web.proposal_sheets.routes import ROUND
from uchiwa.web.proposal_sheets.sheet import SheetStation, Tab

BASE = f"{ROUND}/idle"
IDLE = SheetStation(
    Station.IDLE,
    (
        Tab(
            "air",
            "Idle air",
            "How much air the engine needs to idle, by coolant temperature, in neutral and in gear: from logs that begin "
            "cold and go on until the engine is warm, feet off, standing.",
        ),
        Tab(
            "warm-up",
            "Warm-up",
            "How much more fuel the engine needs while it warms, against its cold target, from the end of after-start on.",
        ),
        Tab(
            "quality",
            "Quality",
            "How steadily the car idles, by coolant temperature, from round to round: scatter of its speed, dips, stalls, "
            "and how hard spark and airflow have to work.",
        ),
    ),
    style="idle.css",
)
