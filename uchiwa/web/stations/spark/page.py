"""The Spark station and its sheets."""

from __future__ import annotations

from uchiwa.core.rounds.progress import Station
from uchiwa.web.proposal_sheets.routes import ROUND
from uchiwa.web.proposal_sheets.sheet import SheetStation, Tab

BASE = f"{ROUND}/spark"
_PULLS = (
    "Full-load pulls, from dyno files and road logs, laid over each other; then what a degree of spark is worth, and how "
    "much of it may go in."
)
SPARK = SheetStation(
    Station.SPARK,
    (
        Tab(
            "knock",
            "Knock",
            "Where it knocked, on the axes of the spark table; whether that is knock or noise; and the spark that goes out.",
            "Moments of this knock",
        ),
        Tab("pulls", "Pulls", _PULLS),
        Tab("torque", "Torque", _PULLS, "The newest pull through this speed"),
        Tab(
            "limit",
            "Knock limit",
            "The level below which a knock sensor hears only the engine itself, from runs that do not knock, for "
            "calibrations that hold it in a table.",
            "The level in a safe log",
        ),
    ),
)
