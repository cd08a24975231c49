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
        "pulls": [{"log": pull.log, "number": pull.number, "source": pull.source.value} for pull in proposal.pulls],
        "normalised": proposal.bands.normalised,
        "repeatability_percent": round(proposal.repeats.share * 100, 4),
        "repeatability_assumed": proposal.repeats.assumed,
        "decisions": [
            {
                "i": decision.column,
                "speed": decision.speed,
                "load": _number(decision.load),
                "spark": round(decision.spark, 3),
                "after": round(decision.after, 3),
                "advice": decision.advice.value,
                "gain_per_degree": _number(decision.gain.gain),
                "interval": [_number(decision.gain.low), _number(decision.gain.high)],
                "best": _number(decision.best),
                "best_error": _number(decision.best_error),
                "clean": _number(decision.clean),
                "knocked": _number(decision.knocked),
                "reasons": list(decision.reasons),
                "ask": None
                if decision.ask is None
                else {"spark": round(decision.ask.spark, 2), "runs": decision.ask.runs, "words": decision.ask.words},
            }
            for decision in proposal.decisions
        ],
        "boost_against_spark": [
            {
                "speed": trade.centre,
                "nm_per_degree": _number(trade.per_degree),
                "nm_per_kpa": _number(trade.per_kpa),
                "measured": trade.measured,
                "kpa_per_degree": _number(trade.kpa_per_degree),
                "boost_per_degree": _number(trade.boost_per_degree),
            }
            for trade in trades(proposal.bands, proposal.gains)
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
