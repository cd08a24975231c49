"""A torque proposal as plain data."""

from __future__ import annotations

import math
from typing import Any

from uchiwa.core.proposals.cell_entry import cell_entry
from uchiwa.core.proposals.torque.proposal import TorqueProposal
from uchiwa.core.pulls.trade import trades


def report(proposal: TorqueProposal) -> dict[str, Any]:
    """Runs, how they repeat, the decision of each column with its reasons, boost against spark, one entry per cell."""
    table = proposal.table
    return {
        "table": table.id,
        "policy": proposal.policy.model_dump(mode="json"),
        "pulls": [{"log": one.log, "number": one.number, "source": one.source.value} for one in proposal.pulls],
        "normalised": proposal.bands.normalised,
        "repeatability_percent": round(proposal.repeats.share * 100, 4),
        "repeatability_assumed": proposal.repeats.assumed,
        "decisions": [
            {
                "i": one.column,
                "speed": one.speed,
                "load": _number(one.load),
                "spark": round(one.spark, 3),
                "after": round(one.after, 3),
                "advice": one.advice.value,
                "gain_per_degree": _number(one.gain.gain),
                "interval": [_number(one.gain.low), _number(one.gain.high)],
                "best": _number(one.best),
                "best_error": _number(one.best_error),
                "clean": _number(one.clean),
                "knocked": _number(one.knocked),
                "reasons": list(one.reasons),
                "ask": None
                if one.ask is None
                else {"spark": round(one.ask.spark, 2), "runs": one.ask.runs, "words": one.ask.words},
            }
            for one in proposal.decisions
        ],
        "boost_against_spark": [
            {
                "speed": one.centre,
                "nm_per_degree": _number(one.per_degree),
                "nm_per_kpa": _number(one.per_kpa),
                "measured": one.measured,
                "kpa_per_degree": _number(one.kpa_per_degree),
                "boost_per_degree": _number(one.boost_per_degree),
            }
            for one in trades(proposal.bands, proposal.gains)
        ],
        "cells": [
            {
                **cell_entry(table, proposal.after, i, j),
                "state": str(proposal.state[j, i]),
            }
            for j in range(table.shape[0])
            for i in range(table.shape[1])
        ],
    }


def _number(value: float) -> float | None:
    return round(value, 4) if math.isfinite(value) else None
