"""A fuel proposal with nothing in it but what is asked for."""

from __future__ import annotations

from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal

STILL = {"delay": (0.0, 0.0), "unreached": "leave", "dead_band_percent": 0.0}


def propose(logs, calibration, where=(), **policy):
    return fuel_proposal(logs, calibration, "ve_main", Policy(**(STILL | policy)), where)
